"""A machine that is known from what ``gather.sh`` or ``gather.ps1`` gathered: listings, and the bytes of some files."""

import ntpath
import os
import posixpath
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from errno import EACCES
from importlib import resources
from stat import S_ISDIR, S_ISLNK, S_ISREG
from typing import Self

from fundamen.formats.byte_source import ByteSource, PartOf, SharedFile
from fundamen.formats.gathered import Gathered, Listed
from fundamen.formats.windows.text_hive import Value
from fundamen.machine.machine import Entry, EntryKind, Machine, not_a_file
from fundamen.machine.posix import MOST_LINKS, entry_of_mode
from fundamen.machine.registry import Registry
from fundamen.messages import as_said, say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath

SCRIPTS = {"shell": "gather.sh", "powershell": "gather.ps1"}
_DO = "machine.look-on-the-machine-itself"


def gathering_script(language: str) -> str:
    """The script that gathers, in plain POSIX shell or in PowerShell: one of ``SCRIPTS``."""
    return resources.files("fundamen.machine").joinpath(f"data/{SCRIPTS[language]}").read_text(encoding="utf-8")


class GatheredMachine(Machine):
    """The machine of a gathering. What was not listed is reported as such, and never as "nothing is there"."""

    is_live = False

    def __init__(self, gathered: Gathered, root: HostPath) -> None:
        """Make it.

        Args:
            gathered: what is known of it.
            root: where that lies.
        """
        super().__init__()
        self._gathered, self.root = gathered, root
        self.platform = gathered.platform
        self._is_windows = gathered.platform is Platform.WINDOWS
        self.paths = ntpath if self._is_windows else posixpath
        self.title = say("machine.what-was-gathered-of", host=printable(gathered.host))
        self.environment = gathered.environment
        if self._is_windows:
            self.environment = {name.upper(): value for name, value in gathered.environment.items()}
            self.registry = _GatheredRegistry(gathered)
        self._content = SharedFile(gathered.content, say("machine.what-was-gathered"))
        self._listed: dict[str, tuple[str, Listed]] = {}  # folded path -> the path as it is spelled, what it is
        self._names: dict[str, list[str]] = {}
        for path, found in gathered.listed.items():
            self._listed[self.fold(path)] = (path, found)
            folder, name = self.paths.split(path)
            self._names.setdefault(self.fold(folder), []).append(name)
        self._named_folders = {self.fold(folder) for folder in gathered.named_folders}
        self._whole = {self.fold(folder) for folder in gathered.whole}
        self._barred = {self.fold(folder) for folder in gathered.barred}
        self._files = {self._key(path): place for path, place in gathered.files.items()}
        self._refused = {self._key(path): why for path, why in gathered.refused.items()}

    @property
    def host(self) -> str:
        """The name of the machine."""
        return self._gathered.host

    @property
    def programs(self) -> tuple[str, ...]:
        """The programs that it was gathered of."""
        return self._gathered.programs

    @property
    def is_whole(self) -> bool:
        """Whether it was gathered of the whole machine."""
        return self._gathered.is_whole

    @property
    def was_running(self) -> bool:
        """It was gathered on the machine as it ran."""
        return True

    def look(self, path: MachinePath) -> Entry:
        """The recorded entry at a path."""
        real, why = self._follow_links(path)
        if why:
            return Entry(EntryKind.BLOCKED, why=as_said(why))
        found = self._listed.get(self.fold(real))
        if found is not None:
            place = self._files.get(self.fold(real))
            return entry_of_mode(found[1].mode, place[1] if place is not None else found[1].size)
        if self.fold(real) in self._named_folders:
            return Entry(EntryKind.FOLDER)
        if self._is_listed(self.paths.dirname(real)):
            return Entry(EntryKind.ABSENT)
        return Entry(EntryKind.BLOCKED, why=say("machine.it-was-not-gathered"))

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names that were in a folder."""
        real, why = self._follow_links(folder)
        if not why and not self._is_listed(real):
            why = say("machine.it-was-not-gathered-which-names")
        if why:
            raise UnreadableError(
                what=say("machine.the-folder-cannot-be-read", folder=printable(folder)), why=why, do=say(_DO)
            )
        return tuple(sorted(name for name in self._names.get(self.fold(real), ()) if name))

    def real(self, path: MachinePath) -> MachinePath:
        """The path with all links followed."""
        real, why = self._follow_links(path)
        return path if why else MachinePath(real)

    @contextmanager
    def open(self, path: MachinePath) -> Iterator[ByteSource]:
        """The bytes of a file, where they were gathered."""
        key = self._key(path)
        place = self._files.get(key)
        if place is None:
            entry = self.look(path)
            if entry.kind is EntryKind.FILE:
                why = self._refused.get(key, say("machine.its-bytes-were-not-gathered"))
                raise UnreadableError(what=say("machine.cannot-be-read", path=printable(path)), why=why, do=say(_DO))
            raise not_a_file(path, entry, self.title)
        yield PartOf(self._content, place[0], place[1], str(path))

    def host_path(self, path: MachinePath) -> HostPath:
        """Refused for every path: nothing of it lies on this host."""
        raise UnreadableError(
            what=say("machine.has-no-place-on-this-host", path=printable(path)),
            why=say("machine.it-is-only-known-from", title=self.title),
            do=say(_DO),
        )

    def scanner(self) -> "_GatheredScanning":
        """A scanner of its folders."""
        return _GatheredScanning(self, self._listed, self._names, self._barred)

    def afresh(self) -> "GatheredMachine":
        """The same with nothing remembered."""
        return GatheredMachine(self._gathered, self.root)

    def absolute_path(self, text: str) -> MachinePath:
        """The absolute path of the machine for a typed one."""
        return MachinePath(self.paths.normpath(self.paths.join("C:\\" if self._is_windows else "/", text)))

    def fold(self, name: str) -> str:
        """The form in which names are compared."""
        return name.lower() if self._is_windows else name

    def _key(self, path: str) -> str:
        return self.fold(self.real(MachinePath(path)))

    def _is_listed(self, folder: str) -> bool:
        """Whether all names of a folder are known; also of one that is not there, in a folder that is."""
        while (key := self.fold(folder)) not in self._barred:
            if key in self._named_folders or key in self._whole:
                return True
            above = self.paths.dirname(folder)
            if above == folder:
                return False
            is_there = key in self._listed
            if not is_there and self._is_listed(above):
                return True
            if is_there and self._is_windows:  # of Windows only what is right in a folder is reported with it
                return False
            folder = above
        return False

    def _follow_links(self, path: str) -> tuple[str, str]:
        """A path with all links followed, as the machine spells it; and why that cannot be. path_resolution(7)."""
        root, parts = self._apart(path)
        real, links = root, 0
        while parts:
            part = parts.popleft()
            if part in {"", "."}:
                continue
            if part == "..":
                real = real.rpartition(self.paths.sep)[0]
                continue
            here = f"{real}{self.paths.sep}{part}"
            spelled, found = self._listed.get(self.fold(here), (here, None))
            if found is None or not S_ISLNK(found.mode):
                real = f"{real}{self.paths.sep}{self.paths.basename(spelled)}"
                continue
            links += 1
            if links > MOST_LINKS:
                return path, say("machine.its-links-lead-round-in-a")
            if self.paths.isabs(found.target):
                real, target = self._apart(found.target)
            else:
                target = deque(found.target.split(self.paths.sep))
            parts.extendleft(reversed(target))
        return real if real != root else root + self.paths.sep, ""

    def _apart(self, path: str) -> tuple[str, deque[str]]:
        """The root of a path, which no separator ends, and what follows."""
        drive, rest = self.paths.splitdrive(path)
        return drive, deque(rest.replace("/", self.paths.sep).split(self.paths.sep))


class _GatheredScanning:
    """Goes through what was listed."""

    def __init__(
        self,
        machine: GatheredMachine,
        listed: dict[str, tuple[str, Listed]],
        names: dict[str, list[str]],
        barred: set[str],
    ) -> None:
        self._machine, self._listed, self._names, self._barred = machine, listed, names, barred
        self._numbers: dict[str, int] = {}

    def place(self, folder: MachinePath) -> str:
        """Where a folder is: at its path."""
        return folder

    def below(self, place: str, name: str) -> str:
        """Where something in a folder is."""
        sep: str = self._machine.paths.sep
        return place.rstrip(sep) + sep + name

    def identity(self, place: str) -> tuple[int, int]:
        """All is on one file system, as far as it was listed."""
        return 0, self._numbers.setdefault(self._machine.fold(place), len(self._numbers))

    @contextmanager
    def entries(self, place: str) -> "Iterator[Iterator[_GatheredEntry]]":
        """The recorded list of a folder. Raises: OSError: it could not be read."""
        folded = self._machine.fold(place)
        if folded in self._barred:
            raise PermissionError(EACCES, os.strerror(EACCES), place)
        sep = self._machine.paths.sep
        begin = place.rstrip(sep) + sep
        names = (name for name in self._names.get(folded, ()) if name)
        yield (_GatheredEntry(name, self._listed[self._machine.fold(begin + name)][1]) for name in names)

    def head(self, place: str, size: int) -> bytes:
        """The first bytes of a file; none where they were not gathered, for then it is neither program nor script."""
        try:
            with self._machine.open(MachinePath(place)) as source:
                return source.read_at(0, min(size, source.size))
        except UnreadableError:
            return b""


class _GatheredEntry:
    """A listed entry of a folder."""

    def __init__(self, name: str, listed: Listed) -> None:
        self.name = name
        self.st_mode = listed.mode

    def is_file(self, *, follow_symlinks: bool = True) -> bool:  # noqa: ARG002 - they are never followed here
        """Whether it is an ordinary file."""
        return S_ISREG(self.st_mode)

    def is_dir(self, *, follow_symlinks: bool = True) -> bool:  # noqa: ARG002
        """Whether it is a folder."""
        return S_ISDIR(self.st_mode)

    def is_symlink(self) -> bool:
        """Whether it is a link."""
        return S_ISLNK(self.st_mode)

    def stat(self, *, follow_symlinks: bool = True) -> Self:  # noqa: ARG002
        """Its mode."""
        return self


class _GatheredRegistry(Registry):
    """Those keys of a registry that were gathered."""

    def __init__(self, gathered: Gathered) -> None:
        self._keys = {key.lower(): values for key, values in gathered.registry.items()}
        self._trees = tuple(tree.lower() + "\\" for tree in gathered.trees)
        self._below: dict[str, list[str]] = {}
        for key in gathered.registry:
            above, _, name = key.rpartition("\\")
            self._below.setdefault(above.lower(), []).append(name)

    def knows(self, key: str) -> bool:
        """Whether the key would have been gathered."""
        return key.lower() in self._keys or (key.lower() + "\\").startswith(self._trees)

    def values(self, key: str) -> dict[str, Value] | None:
        """The values of a key by name; None where there is no such key, or it was not gathered."""
        return self._keys.get(key.lower())

    def subkeys(self, key: str) -> tuple[str, ...]:
        """The names of the keys right below a key."""
        return tuple(self._below.get(key.lower(), ()))
