"""Go through folders of a machine: which files are executables, libraries and scripts, and which links lead nowhere."""

import json
import re
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from enum import Enum, auto
from itertools import chain
from operator import attrgetter

import msgspec

from fundamen.formats.unix.elf import MAGIC as ELF
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.scanning import ScannedEntry
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.encoding import as_message, to_coded
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.placing.replacing import OURS

_path_of = attrgetter("path")
_FILES = 4096  # after how many the rest of a leg is given back
_FOLDERS = 64  # in a leg that is shared out
_MANY = 500  # executables from which on further processes pay
_ANYBODY_RUNS = 0o111
_HEAD = 128  # bytes by which a file is recognised; a script's first line is read as far
_MACHO = (b"\xfe\xed\xfa\xce", b"\xfe\xed\xfa\xcf", b"\xce\xfa\xed\xfe", b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe")
_BY_NAME = {
    Platform.LINUX: re.compile(r"\.(?:so|node)"),
    Platform.MACOS: re.compile(r"\.(?:dylib|so|bundle)", re.IGNORECASE),
    Platform.WINDOWS: re.compile(r"\.(?:exe|dll|ocx|cpl|drv|node)$", re.IGNORECASE),
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
    """The programs and libraries in some folders."""

    files: int  # ordinary files
    executables: tuple[MachinePath, ...]  # programs and libraries in the platform's format
    scripts: dict[str, tuple[MachinePath, ...]]  # by their first line
    broken_links: tuple[MachinePath, ...]
    barred: tuple[Message, ...]  # folders that could not be looked into, with the reason


CountProgress = Callable[[int], None]  # called now and then with how many files were seen


def usual_folders(machine: Machine) -> tuple[MachinePath, ...]:
    """The folders in which a machine of this platform keeps programs and libraries, as far as it has them."""
    found: dict[MachinePath, None] = {}
    for folder in map(MachinePath, USUAL[machine.platform]):
        if machine.look(folder).kind is EntryKind.FOLDER:
            found[machine.real(folder)] = None
    return tuple(folder for folder in found if not any(_is_below(machine, folder, other) for other in found))


class Leg(msgspec.Struct, frozen=True):
    """A part of the way: some folders, each with its place."""

    folders: list[tuple[MachinePath, str]]
    device: int  # the file system that is not left


class _What(Enum):
    EXECUTABLE = auto()
    SCRIPT = auto()
    BROKEN_LINK = auto()


class _Find(msgspec.Struct, frozen=True):
    folder: int  # in which it lies, by its inode
    what: _What
    path: MachinePath
    line: str = ""  # the first, of a script


class Gone(msgspec.Struct, frozen=True):
    """The result of a part of the walk."""

    files: dict[int, int]  # how many ordinary files lie in each folder, by its inode
    found: list[_Find]
    barred: list[Message]
    left: Leg  # the folders below that were not gone into


Share = Callable[[Callable[[Leg], Gone], Iterable[Leg]], Iterator[Gone]]  # performs legs, here or in other processes


class Walk:
    """A way through folders; each file once, links not followed, other file systems left alone.

    Once it is gone, ``walked`` has everything, in the order of the paths.
    """

    def __init__(
        self, machine: Machine, folders: Sequence[MachinePath], count_progress: CountProgress = lambda _count: None
    ) -> None:
        """Prepare to go.

        Args:
            machine: whose folders they are.
            folders: where to begin.
            count_progress: called now and then with how many more files were seen.

        Raises:
            UnreadableError: a folder that was named is not there.
        """
        self._machine = machine
        self._count_progress = count_progress
        self._name = say("survey.walk", folders=" ".join(folders))
        self._walking = _Walking(machine)
        self.go_leg = self._walking.go
        self._seen: set[tuple[int, int]] = set()  # folders, by file system and inode
        self._found: list[_Find] = []
        self._barred: list[Message] = []
        self._count = 0
        self._begun: list[Gone] = []
        self.walked = Walked(0, (), {}, (), ())
        self._is_done = False
        if machine.is_captured:
            self.walked = _from_capture(machine, self._name)
            self._is_done = True
            return
        self._legs = [self._leg(folder) for folder in folders]

    def is_long(self) -> bool:
        """Go the first steps, here; whether there is so much ahead that it pays to share it out."""
        if not self._is_done and not self._begun:
            self._begun = list(map(self.go_leg, self._legs))
        ahead = sum(len(gone.left.folders) for gone in self._begun)
        known = sum(len(gone.found) for gone in self._begun)
        return ahead > 0 or max(known, len(self.walked.executables)) >= _MANY

    def go(self, share: Share = map) -> Iterator[Sequence[MachinePath]]:
        """Go all of it, and give the executables as they are found; at once where it is gone already.

        Args:
            share: performs legs.
        """
        if self._is_done:
            yield self.walked.executables
            return
        self.is_long()
        under_way = deque[Iterator[Gone]]([iter(self._begun)])
        while under_way:
            for gone in under_way.popleft():
                under_way.append(share(self.go_leg, _shared_out(gone.left)))
                yield self._take_folders(gone)
        self._finish()

    def __iter__(self) -> Iterator[MachinePath]:
        """Go all of it here; the executables as they are found."""
        return chain.from_iterable(self.go())

    def _leg(self, folder: MachinePath) -> Leg:
        if self._machine.look(folder).kind is not EntryKind.FOLDER:
            raise UnreadableError(
                what=say("survey.cannot-be-surveyed", folder=folder),
                why=say("survey.there-is-no-such-folder"),
                do=say("survey.name-a-folder-of-the-machine"),
            )
        real = self._machine.real(folder)
        scanning = self._machine.scanner()
        place = scanning.place(real)
        return Leg([(real, place)], scanning.identity(place)[0])

    def _take_folders(self, gone: Gone) -> list[MachinePath]:
        """Take in what was found in folders that were not come to on another way; the executables of it."""
        device = gone.left.device
        again = {inode for inode in gone.files if (device, inode) in self._seen}
        self._seen.update((device, inode) for inode in gone.files)
        count = sum(files for inode, files in gone.files.items() if inode not in again)
        found = [find for find in gone.found if find.folder not in again]
        self._count += count
        self._count_progress(count)
        self._found += found
        self._barred += gone.barred
        return [find.path for find in found if find.what is _What.EXECUTABLE]

    def _finish(self) -> None:
        found: dict[_What, list[_Find]] = {what: [] for what in _What}
        for find in sorted(self._found, key=_path_of):
            found[find.what].append(find)
        scripts: dict[str, list[MachinePath]] = {}
        for script in found[_What.SCRIPT]:
            scripts.setdefault(script.line, []).append(script.path)
        self.walked = Walked(
            self._count,
            tuple(find.path for find in found[_What.EXECUTABLE]),
            {line: tuple(paths) for line, paths in scripts.items()},
            tuple(find.path for find in found[_What.BROKEN_LINK]),
            tuple(sorted(self._barred)),
        )
        self._is_done = True
        # Names may be in any encoding.
        self._machine.keep(self._name, json.dumps(to_coded(self.walked)).encode())


def _shared_out(leg: Leg) -> Iterator[Leg]:
    """The rest of a leg, as shorter ones."""
    for begin in range(0, len(leg.folders), _FOLDERS):
        yield Leg(leg.folders[begin : begin + _FOLDERS], leg.device)


def _from_capture(machine: Machine, name: str) -> Walked:
    data = machine.walk_record(name)
    if data is None:
        raise UnreadableError(
            what=say("survey.cannot-be-surveyed-so", title=machine.title),
            why=say("survey.it-is-not-of-the-whole"),
            do=say("survey.have-one-made-with-fundamen-capture"),
        )
    try:
        return msgspec.convert(json.loads(data), type=Walked, dec_hook=as_message)
    except (ValueError, msgspec.ValidationError) as error:
        raise UnreadableError(
            what=say("survey.cannot-be-surveyed", folder=machine.title),
            why=str(error),
            do=say("survey.make-a-new-capture"),
        ) from error


class _Walking:
    """Goes legs of the way, in whichever process."""

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._scanning = machine.scanner()
        self._sep = machine.paths.sep
        self._named = _BY_NAME[machine.platform]
        self._by_mode = machine.platform is not Platform.WINDOWS

    def go(self, leg: Leg) -> Gone:
        """Go through the first folders, the nearest first, until there were many files; give what is left."""
        gone = Gone({}, [], [], Leg([], leg.device))
        waiting = deque(leg.folders)
        count = 0
        while waiting and count < _FILES:
            folder, place = waiting.popleft()
            try:
                device, inode = self._scanning.identity(place)
                # A folder on another file system is none of ours; one that was seen is come to by a second mount.
                if device != leg.device or inode in gone.files:
                    continue
                gone.files[inode] = 0
                with self._scanning.entries(place) as entries:
                    files = self._look_through(folder, place, inode, entries, gone.found, waiting)
            except OSError as error:
                gone.barred.append(say("common.said-of", subject=folder, said=error.strerror))
                continue
            gone.files[inode] = files
            count += files + 1
        gone.left.folders.extend(waiting)
        return gone

    def _look_through(
        self,
        folder: MachinePath,
        place: str,
        inode: int,
        entries: Iterator[ScannedEntry],
        found: list[_Find],
        folders: deque[tuple[MachinePath, str]],
    ) -> int:
        """Note what is found in a folder, and the folders below; give how many ordinary files there are."""
        begin = folder.rstrip(self._sep) + self._sep
        is_named, by_mode, below = self._named.search, self._by_mode, self._scanning.below
        count = 0
        for entry in entries:
            try:
                if entry.is_file(follow_symlinks=False):
                    count += 1
                    may_run = by_mode and entry.stat(follow_symlinks=False).st_mode & _ANYBODY_RUNS
                    if (may_run or is_named(entry.name)) and not entry.name.startswith(OURS):
                        found += self._distinguish(inode, MachinePath(begin + entry.name), below(place, entry.name))
                elif entry.is_dir(follow_symlinks=False):
                    folders.append((MachinePath(begin + entry.name), below(place, entry.name)))
                elif entry.is_symlink() and self._is_broken(MachinePath(begin + entry.name)):
                    found.append(_Find(inode, _What.BROKEN_LINK, MachinePath(begin + entry.name)))
            except OSError:  # it vanished meanwhile
                continue
        return count

    def _is_broken(self, link: MachinePath) -> bool:
        if not self._machine.may_be_shared:
            self._machine.real(link)  # a capture records where it leads
        return self._machine.look(link).kind is EntryKind.ABSENT

    def _distinguish(self, folder: int, path: MachinePath, place: str) -> Iterator[_Find]:
        """A file in the platform's format, or a script."""
        head = self._scanning.head(place, _HEAD)
        if head.startswith(b"#!") and self._by_mode:
            yield _Find(folder, _What.SCRIPT, path, head.partition(b"\n")[0].decode("utf-8", "surrogateescape"))
        elif self._is_executable(head):
            yield _Find(folder, _What.EXECUTABLE, path)

    def _is_executable(self, head: bytes) -> bool:
        match self._machine.platform:
            case Platform.LINUX:
                return head.startswith(ELF)
            case Platform.MACOS:
                return head.startswith(_MACHO)
            case _:
                return head.startswith(b"MZ")


def _is_below(machine: Machine, folder: str, other: str) -> bool:
    return folder != other and machine.fold(folder).startswith(machine.fold(other).rstrip("/\\") + machine.paths.sep)
