"""A macOS machine: its root mounted at a folder of this host."""

import contextlib
import os
import posixpath
from collections.abc import Mapping

from fundamen.machine.machine import EntryKind
from fundamen.machine.posix import PosixMachine
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath

_FIRMLINKS = MachinePath("/usr/share/firmlinks")
_DATA_VOLUME = "/System/Volumes/Data"
_MOST_BYTES = 1 << 20


class MacMachine(PosixMachine):
    """A macOS root. Names are compared without case, as its volumes are made unless someone asks otherwise.

    Where the volume that people write to is mounted in its place below the root, paths that lead there are followed.
    """

    platform = Platform.MACOS

    def __init__(self, root: HostPath, environment: Mapping[str, str], current: HostPath) -> None:
        """Make the machine; the arguments are PosixMachine's."""
        super().__init__(root, environment, current)
        self._listings: dict[str, dict[str, str]] = {}  # path -> folded name -> name
        self._firmlinks: dict[str, MachinePath] | None = None

    def fold(self, name: str) -> str:
        """The form in which two names or paths are equal exactly if they are the same to this machine."""
        return name.lower()

    def _resolve(self, path: str) -> str:
        firmlinks = self._read_firmlinks()
        parts = [part for part in posixpath.normpath(path).split("/") if part]
        for length in range(len(parts) if firmlinks else 0, 0, -1):
            other = firmlinks.get(self.fold("/" + "/".join(parts[:length])))
            if other is not None:
                return super()._resolve(posixpath.join(other, *parts[length:]))
        return super()._resolve(path)

    def _read_firmlinks(self) -> dict[str, MachinePath]:
        """Folded folder of the system's volume -> what is in its place on the other one, where that is mounted."""
        if self._firmlinks is None:
            self._firmlinks = {}  # while the file is looked for, which lies on the system's own volume
            with contextlib.suppress(UnreadableError):
                lines = self.content(_FIRMLINKS, _MOST_BYTES).decode("utf-8", "surrogateescape").splitlines()
                self._firmlinks = {
                    self.fold(own): MachinePath(posixpath.join(_DATA_VOLUME, other.strip("/")))
                    for own, tab, other in (line.partition("\t") for line in lines)
                    if tab and self.look(MachinePath(posixpath.join(_DATA_VOLUME, other))).kind is EntryKind.FOLDER
                }
        return self._firmlinks

    def _actual(self, folder: str, name: str) -> str:
        """The spelling of a name in a folder; an exact one wins where there are several."""
        listing = self._listings.get(folder)
        if listing is None:
            try:
                names = os.listdir(self._prefix + (folder or "/"))
            except OSError:
                names = []  # the look-up that follows will tell why
            listing = self._listings[folder] = {n.lower(): n for n in sorted(names, reverse=True)}
            listing.update({n: n for n in names})
        return listing.get(name) or listing.get(name.lower()) or name
