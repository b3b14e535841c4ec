"""A Windows volume, or a prefix that runs Windows programs, at a folder of this host."""

import ntpath
import os
from collections.abc import Mapping
from contextlib import AbstractContextManager
from functools import cached_property

from fundamen.formats.byte_source import ByteSource
from fundamen.machine.machine import Entry, Machine
from fundamen.machine.places import HAS_PLACES, Ground, Place, opened_ground
from fundamen.machine.posix import list_on_host, looked_at, open_on_host
from fundamen.machine.registry_opening import open_registry
from fundamen.machine.scanning import PlaceScanning, Scanning
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath


class WindowsMachine(Machine):
    """Folders of this host as drives. Names are compared without case, as the machine does.

    A host link may lead to anywhere within the drives; one that leads out of them blocks the path.
    """

    platform = Platform.WINDOWS
    paths = ntpath
    is_live = False

    may_be_shared = True

    def __init__(
        self, root: HostPath, drives: Mapping[str, HostPath], environment: Mapping[str, str], current: HostPath
    ) -> None:
        """Make the machine.

        Args:
            root: the folder that the technician named.
            drives: drive letter (capital, no colon) -> folder; the system drive first.
            environment: what its programs are started with.
            current: the folder that relative host paths count from.
        """
        super().__init__()
        self.root = root
        self.is_prefix = os.path.isfile(os.path.join(root, "system.reg"))
        self.title = say("machine.the-windows-volume-at", root=printable(root))
        self.drives = {letter: HostPath(os.path.realpath(folder)) for letter, folder in drives.items()}
        self.system_drive = next(iter(drives))
        self.environment = {name.upper(): value for name, value in environment.items()}
        self._current = current
        self.is_at_folder = HAS_PLACES
        self._host_paths: dict[MachinePath, HostPath] = {}
        self._listings: dict[str, dict[str, str]] = {}  # host folder -> folded name -> name
        self.registry = open_registry(root, lambda path: self._below(self.system_drive, path))

    def look(self, path: MachinePath) -> Entry:
        """Tell what stands at a path."""
        return looked_at(self, path)

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names in a folder, sorted; empty where there is no such folder."""
        return list_on_host(self, folder)

    def real(self, path: MachinePath) -> MachinePath:
        """The path as the volume spells it; parts that do not exist stay as they are given."""
        drive, rest = ntpath.splitdrive(self._absolute(path))
        host = self.drives.get(drive[:1].upper())
        spelled = drive[:1].upper() + ":"
        for part in rest.strip("\\").split("\\"):
            actual = self._actual(host, part) if host is not None else part
            spelled += "\\" + actual
            host = HostPath(os.path.join(host, actual)) if host is not None else None
        return MachinePath(spelled)

    def open(self, path: MachinePath) -> AbstractContextManager[ByteSource]:
        """Open a file for reading by offset."""
        return open_on_host(self, path)

    @cached_property
    def ground(self) -> Ground:
        """Where on this host its files lie, held open so that nothing leads out."""
        tops = {"": HostPath(os.path.realpath(self.root))}
        tops |= {letter: host for letter, host in self.drives.items() if not _is_within(host, tops[""])}
        return opened_ground(tops, self.title) if HAS_PLACES else super().ground

    def entry_place(self, path: MachinePath) -> Place:
        """The place of a path; a Windows volume has no links of its own, and names are found in any case."""
        return self.place(path)

    def scanner(self) -> Scanning:
        """A scanner of its folders."""
        return PlaceScanning(self.ground, self.place) if self.is_at_folder else super().scanner()

    def host_path(self, path: MachinePath) -> HostPath:
        """Where on this host a path of the machine lies."""
        known = self._host_paths.get(path)
        if known is None:
            known = self._host_paths[path] = self._found_host_path(path)
        return known

    def _found_host_path(self, path: MachinePath) -> HostPath:
        drive, rest = ntpath.splitdrive(self._absolute(path))
        letter = drive[:1].upper()
        if letter not in self.drives:
            raise UnreadableError(
                what=say("machine.lies-nowhere-on-this-host", path=printable(path)),
                why=say("machine.no-folder-is-given-for-drive", letter=letter or "(none)"),
                do=say("machine.give-one-with-drive-folder", letter=letter or "D"),
            )
        followed = os.path.realpath(self._below(letter, rest))
        if not any(_is_within(followed, folder) for folder in self.drives.values()):
            raise UnreadableError(
                what=say("machine.cannot-be-followed", path=printable(path)),
                why=say("machine.a-link-in-it-leads-out"),
                do=say("machine.give-the-folder-it-leads-to"),
            )
        return HostPath(followed)

    def absolute_path(self, text: str) -> MachinePath:
        """The path for a typed one: a path of the machine, or of this host inside one of the drives."""
        on_host = os.path.realpath(os.path.join(self._current, text))
        if os.path.lexists(on_host):
            for letter, folder in self.drives.items():
                if _is_within(on_host, folder):
                    relative = os.path.relpath(on_host, folder).replace("/", "\\")
                    return MachinePath(f"{letter}:\\" + ("" if relative == "." else relative))
        return MachinePath(ntpath.normpath(self._absolute(text)))

    def fold(self, name: str) -> str:
        """The form in which two names or paths are equal exactly if they are the same to this machine."""
        return name.lower()

    def afresh(self) -> "WindowsMachine":
        """The same machine with nothing remembered of what was read."""
        return WindowsMachine(self.root, self.drives, self.environment, self._current)

    def _below(self, letter: str, path: str) -> HostPath:
        """The host path of a path below a drive, each part spelled as it is spelled there."""
        host = self.drives[letter]
        for part in path.strip("\\").split("\\"):
            if part:
                host = HostPath(os.path.join(host, self._actual(host, part)))
        return host

    def _absolute(self, path: str) -> str:
        path = path.replace("/", "\\")
        drive, rest = ntpath.splitdrive(path)
        return ntpath.normpath(f"{drive or self.system_drive + ':'}\\{rest.lstrip(chr(92))}")

    def _actual(self, host_folder: HostPath, name: str) -> str:
        """The spelling of a name in a folder; an exact one wins where a host folder holds several."""
        listing = self._listings.get(host_folder)
        if listing is None:
            try:
                names = os.listdir(host_folder)
            except OSError:
                names = []  # the look-up that follows will tell why
            listing = self._listings[host_folder] = {n.lower(): n for n in sorted(names, reverse=True)}
            listing.update({n: n for n in names})
        return listing.get(name) or listing.get(name.lower()) or name


def _is_within(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder.rstrip("/") + "/")
