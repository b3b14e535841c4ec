"""Go through folders of a machine: which files are executables, libraries and scripts, and which links lead nowhere."""

import json
import os
from collections.abc import Callable, Iterator, Sequence
from operator import attrgetter

import msgspec

from fundamen.formats.elf import MAGIC as ELF
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_name_of = attrgetter("name")
_ANYBODY_RUNS = 0o111
_HEAD = 128  # bytes by which a file is told; a script's first line is read as far
_MACHO = (b"\xfe\xed\xfa\xce", b"\xfe\xed\xfa\xcf", b"\xce\xfa\xed\xfe", b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe")
_BY_NAME = {
    Platform.LINUX: (".so", ".node"),
    Platform.MACOS: (".dylib", ".so", ".bundle"),
    Platform.WINDOWS: (".exe", ".dll", ".ocx", ".cpl", ".drv", ".node"),
}
# Where each platform keeps programs and libraries.
USUAL = {
    Platform.LINUX: ("/usr", "/bin", "/sbin", "/lib", "/lib64", "/opt"),
    Platform.MACOS: ("/Applications", "/usr/local", "/opt", "/Library"),
    Platform.WINDOWS: (
        "C:\\Program Files",
        "C:\\Program Files (x86)",
        "C:\\Windows\\System32",
        "C:\\Windows\\SysWOW64",
    ),
}


class Walked(msgspec.Struct, frozen=True):
    """What lies in some folders."""

    files: int  # ordinary files
    executables: tuple[MachinePath, ...]  # programs and libraries in the platform's format
    scripts: dict[str, tuple[MachinePath, ...]]  # by their first line
    broken_links: tuple[MachinePath, ...]
    barred: tuple[str, ...]  # folders that could not be looked into, with the reason


Told = Callable[[int], None]  # called now and then with how many files were seen


def usual_folders(machine: Machine) -> tuple[MachinePath, ...]:
    """The folders in which a machine of this platform keeps programs and libraries, as far as it has them."""
    found: dict[MachinePath, None] = {}
    for folder in map(MachinePath, USUAL[machine.platform]):
        if machine.look(folder).kind is EntryKind.FOLDER:
            found[machine.real(folder)] = None
    return tuple(folder for folder in found if not any(_is_below(machine, folder, other) for other in found))


class Walk:
    """A way through folders; each file once, links not followed, other file systems left alone.

    It is gone as its executables are taken; once they all are, ``walked`` has everything.
    """

    def __init__(self, machine: Machine, folders: Sequence[MachinePath], told: Told = lambda _count: None) -> None:
        """Prepare to go.

        Args:
            machine: whose folders they are.
            folders: where to begin.
            told: called now and then with how many more files were seen.

        Raises:
            UnreadableError: a folder that was named is not there.
        """
        self._machine = machine
        self._folders = folders
        self._told = told
        self._name = f"walk {' '.join(folders)}"
        self.walked = Walked(0, (), {}, (), ())
        for folder in () if machine.is_captured else folders:
            if machine.look(folder).kind is not EntryKind.FOLDER:
                raise UnreadableError(
                    what=f"{folder} cannot be surveyed",
                    why="there is no such folder",
                    do="Name a folder of the machine.",
                )

    def __iter__(self) -> Iterator[MachinePath]:
        """The executables, as they are found."""
        if self._machine.is_captured:
            self.walked = _from_capture(self._machine, self._name)
            yield from self.walked.executables
            return
        walking = _Walking(self._machine, self._told)
        executables = []
        for folder in self._folders:
            for path in walking.go(self._machine.real(folder)):
                executables.append(path)
                yield path
        self.walked = Walked(
            walking.count,
            tuple(executables),
            {line: tuple(paths) for line, paths in walking.scripts.items()},
            tuple(walking.broken),
            tuple(walking.barred),
        )
        # Names may be in any encoding.
        self._machine.keep(self._name, json.dumps(msgspec.to_builtins(self.walked)).encode())


def _from_capture(machine: Machine, name: str) -> Walked:
    data = machine.kept(name)
    if data is None:
        raise UnreadableError(
            what=f"{machine.title} cannot be surveyed so",
            why="it is not of the whole machine, or not of these folders",
            do="Have one made with: fundamen capture FILE --all; of single programs: fundamen trace",
        )
    try:
        return msgspec.convert(json.loads(data), type=Walked)
    except (ValueError, msgspec.ValidationError) as error:
        raise UnreadableError(
            what=f"{machine.title} cannot be surveyed", why=str(error), do="Have the capture made anew."
        ) from error


class _Walking:
    def __init__(self, machine: Machine, told: Told) -> None:
        self._machine = machine
        self._told = told
        self._endings = _BY_NAME[machine.platform]
        self._by_mode = machine.platform is not Platform.WINDOWS
        self._seen: set[tuple[int, int]] = set()  # folders
        self.count = 0
        self.scripts: dict[str, list[MachinePath]] = {}
        self.broken: list[MachinePath] = []
        self.barred: list[str] = []

    def go(self, folder: MachinePath) -> Iterator[MachinePath]:
        """Go through a folder and all below it, the nearest first; give the executables."""
        host = str(self._machine.host_path(folder))
        device = os.stat(host).st_dev
        sep = self._machine.paths.sep
        waiting = [(folder, host)]
        while waiting:
            here, host_folder = waiting.pop()
            begin = here.rstrip(sep) + sep
            for entry in self._entries(here, host_folder, device):
                path = MachinePath(begin + entry.name)
                try:
                    if entry.is_file(follow_symlinks=False):
                        if self._is_executable_file(path, entry):
                            yield path
                    elif entry.is_dir(follow_symlinks=False):
                        waiting.append((path, entry.path))
                    elif entry.is_symlink():
                        self._link(path)
                except OSError:  # it vanished meanwhile
                    continue

    def _entries(self, folder: MachinePath, host: str, device: int) -> "list[os.DirEntry[str]]":
        """What lies in a folder, by its names; nothing where it was seen already, or is of another file system."""
        try:
            status = os.lstat(host)
            if status.st_dev != device or (device, status.st_ino) in self._seen:
                return []
            self._seen.add((device, status.st_ino))
            with os.scandir(host) as entries:
                return sorted(entries, key=_name_of)
        except OSError as error:
            self.barred.append(f"{folder}: {error.strerror}")
            return []

    def _link(self, path: MachinePath) -> None:
        if not self._machine.may_be_shared:
            self._machine.real(path)  # whoever makes a capture writes down where it leads
        if self._machine.look(path).kind is EntryKind.ABSENT:
            self.broken.append(path)

    def _is_executable_file(self, path: MachinePath, entry: "os.DirEntry[str]") -> bool:
        """Whether a file is in the platform's format; a script is noted down."""
        self.count += 1
        if not self.count & 0x3FF:
            self._told(self.count)
        if not self._may_be(entry):
            return False
        with open(entry.path, "rb", buffering=0) as file:
            head = file.read(_HEAD)
        if head.startswith(b"#!") and self._by_mode:
            line = head.partition(b"\n")[0].decode("utf-8", "surrogateescape")
            self.scripts.setdefault(line, []).append(path)
            return False
        return self._is_executable(head)

    def _may_be(self, entry: "os.DirEntry[str]") -> bool:
        name = entry.name.lower()
        if not self._by_mode:
            return name.endswith(self._endings)
        for ending in self._endings:
            if ending in name:
                return True
        return bool(entry.stat(follow_symlinks=False).st_mode & _ANYBODY_RUNS)

    def _is_executable(self, head: bytes) -> bool:
        match self._machine.platform:
            case Platform.LINUX:
                return head.startswith(ELF)
            case Platform.MACOS:
                return head.startswith(_MACHO)
            case _:
                return head.startswith(b"MZ")


def _is_below(machine: Machine, folder: str, other: str) -> bool:
    return folder != other and machine.folded(folder).startswith(
        machine.folded(other).rstrip("/\\") + machine.paths.sep
    )
