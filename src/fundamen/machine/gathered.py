"""A machine that is known from what ``gather.sh`` has gathered: complete listings, and the bytes of some files."""

import posixpath
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from stat import S_ISLNK

from fundamen.formats.cursor import ByteSource, SharedFile
from fundamen.formats.gathered import Gathered
from fundamen.machine.machine import Entry, EntryKind, Machine, not_a_file
from fundamen.machine.posix import MOST_LINKS, entry_of_mode
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath, shown

_DO = "Look on the machine itself, or gather it too: fundamen capture --script"


def gathering_script() -> str:
    """The script that gathers, in plain POSIX shell."""
    return resources.files("fundamen.machine").joinpath("data/gather.sh").read_text(encoding="utf-8")


class GatheredMachine(Machine):
    """The machine of a gathering. What was not listed is told as such, and never as "nothing stands there"."""

    platform = Platform.LINUX
    paths = posixpath
    is_live = False

    def __init__(self, gathered: Gathered, root: HostPath) -> None:
        """Make it.

        Args:
            gathered: what is known of it.
            root: where that lies.
        """
        super().__init__()
        self._gathered, self.root = gathered, root
        self.title = f"what was gathered of {shown(gathered.host)}"
        self.environment = gathered.environment
        self._content = SharedFile(gathered.content)
        self._names: dict[str, list[str]] = {}
        for path in gathered.listed:
            self._names.setdefault(posixpath.dirname(path), []).append(posixpath.basename(path))
        self._files = {self.real(MachinePath(path)): place for path, place in gathered.files.items()}
        self._refused = {self.real(MachinePath(path)): why for path, why in gathered.refused.items()}

    @property
    def host(self) -> str:
        """The name of the machine."""
        return self._gathered.host

    @property
    def programs(self) -> tuple[str, ...]:
        """The programs that it was gathered of."""
        return self._gathered.programs

    @property
    def was_running(self) -> bool:
        """It was gathered on the machine as it ran."""
        return True

    def look(self, path: MachinePath) -> Entry:
        """What stood at a path."""
        real, why = self._followed(path)
        if why:
            return Entry(EntryKind.BLOCKED, why=why)
        found = self._gathered.listed.get(real)
        if found is not None:
            place = self._files.get(MachinePath(real))
            return entry_of_mode(found.mode, place[1] if place is not None else found.size)
        if self._is_listed(posixpath.dirname(real)):
            return Entry(EntryKind.ABSENT)
        return Entry(EntryKind.BLOCKED, why="it was not gathered")

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names that were in a folder."""
        real, why = self._followed(folder)
        if not why and not self._is_listed(real):
            why = "it was not gathered which names are in it"
        if why:
            raise UnreadableError(what=f"The folder {shown(folder)} cannot be read", why=why, do=_DO)
        return tuple(sorted(name for name in self._names.get(real, ()) if name))

    def real(self, path: MachinePath) -> MachinePath:
        """The path with all links followed."""
        real, why = self._followed(path)
        return path if why else MachinePath(real)

    @contextmanager
    def open(self, path: MachinePath) -> Iterator[ByteSource]:
        """The bytes of a file, where they were gathered."""
        real = self.real(path)
        place = self._files.get(real)
        if place is None:
            entry = self.look(path)
            if entry.kind is EntryKind.FILE:
                why = self._refused.get(real, "its bytes were not gathered")
                raise UnreadableError(what=f"{shown(path)} cannot be read", why=why, do=_DO)
            raise not_a_file(path, entry, self.title)
        yield _Piece(str(path), place[0], place[1], self._content)

    def host_path(self, path: MachinePath) -> HostPath:
        """Refused for every path: nothing of it lies on this host."""
        raise UnreadableError(
            what=f"{shown(path)} has no place on this host", why=f"it is only known from {self.title}", do=_DO
        )

    def afresh(self) -> "GatheredMachine":
        """The same with nothing remembered."""
        return GatheredMachine(self._gathered, self.root)

    def spelled(self, text: str) -> MachinePath:
        """What a person typed, as an absolute path of the machine."""
        return MachinePath(posixpath.normpath(posixpath.join("/", text)))

    def _is_listed(self, folder: str) -> bool:
        """Whether all names of a folder are known; also of one that is not there, in a folder that is."""
        while folder not in self._gathered.barred:
            if folder in self._gathered.whole:
                return True
            if folder == "/":
                return False
            if folder not in self._gathered.listed and self._is_listed(posixpath.dirname(folder)):
                return True
            folder = posixpath.dirname(folder)
        return False

    def _followed(self, path: str) -> tuple[str, str]:
        """A path with all links followed, by path_resolution(7); and why that cannot be."""
        parts = deque(path.split("/"))
        real, links = "", 0
        while parts:
            part = parts.popleft()
            if part in {"", "."}:
                continue
            if part == "..":
                real = real.rpartition("/")[0]
                continue
            here = f"{real}/{part}"
            found = self._gathered.listed.get(here)
            if found is None or not S_ISLNK(found.mode):
                real = here
                continue
            links += 1
            if links > MOST_LINKS:
                return path, "its links lead round in a loop"
            real = "" if found.target.startswith("/") else real
            parts.extendleft(reversed(found.target.split("/")))
        return real or "/", ""


class _Piece:
    """A file whose bytes stand in the content."""

    def __init__(self, name: str, begin: int, size: int, content: SharedFile) -> None:
        self.name, self.size = name, size
        self._begin, self._content = begin, content

    def read_at(self, offset: int, size: int) -> bytes:
        """Give ``size`` bytes from ``offset``; fewer where the file ends before."""
        return self._content.read_at(self._begin + offset, max(0, min(size, self.size - offset)))
