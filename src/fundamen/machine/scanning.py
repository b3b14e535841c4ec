"""The folders of a machine, gone through: what lies in each, links not followed, and how a file begins."""

import contextlib
import os
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Protocol

from fundamen.machine.file_bytes import open_quietly
from fundamen.machine.places import Ground, Place
from fundamen.model.paths import HostPath, MachinePath

if TYPE_CHECKING:
    from contextlib import AbstractContextManager


class Status(Protocol):
    """The used fields of stat(2)."""

    @property
    def st_mode(self) -> int:
        """Kind and rights."""


class ScannedEntry(Protocol):
    """One thing in a folder, as ``os.DirEntry`` tells of it."""

    @property
    def name(self) -> str:
        """How it is called."""

    def is_file(self, *, follow_symlinks: bool = True) -> bool:
        """Whether it is an ordinary file."""

    def is_dir(self, *, follow_symlinks: bool = True) -> bool:
        """Whether it is a folder."""

    def is_symlink(self) -> bool:
        """Whether it is a link."""

    def stat(self, *, follow_symlinks: bool = True) -> Status:
        """The full status. Raises: OSError."""


class Scanning(Protocol):
    """Goes through the folders of one machine, by their places, wherever those are. All raise OSError."""

    def place(self, folder: MachinePath) -> str:
        """Where a folder is."""

    def below(self, place: str, name: str) -> str:
        """Where something in a folder is."""

    def identity(self, place: str) -> tuple[int, int]:
        """Which file system a folder is on, and which of its folders it is."""

    def entries(self, place: str) -> "AbstractContextManager[Iterator[ScannedEntry]]":
        """The entries of a folder."""

    def head(self, place: str, size: int) -> bytes:
        """The first bytes of a file."""


class HostScanning:
    """Goes through the folders of this host."""

    def __init__(self, host_path: Callable[[MachinePath], HostPath]) -> None:
        """Take it by where its paths lie on this host."""
        self._host_path = host_path

    def place(self, folder: MachinePath) -> str:
        """Where a folder is."""
        return self._host_path(folder)

    def below(self, place: str, name: str) -> str:
        """Where something in a folder is."""
        return f"{place.rstrip('/')}/{name}"

    def identity(self, place: str) -> tuple[int, int]:
        """Which file system a folder is on, and its inode."""
        status = os.lstat(place)
        return status.st_dev, status.st_ino

    def entries(self, place: str) -> "AbstractContextManager[Iterator[os.DirEntry[str]]]":
        """The entries of a folder."""
        return os.scandir(place)

    def head(self, place: str, size: int) -> bytes:
        """The first bytes of a file."""
        file = open_quietly(HostPath(place))
        try:
            return os.read(file, size)
        finally:
            os.close(file)


class PlaceScanning:
    """Goes through the folders of a machine at a folder of this host, by handles, out of which nothing leads."""

    def __init__(self, ground: Ground, place: Callable[[MachinePath], Place]) -> None:
        """Take it by its ground, and by the places of its paths."""
        self._ground, self._place = ground, place

    def place(self, folder: MachinePath) -> str:
        """Where a folder is: its location."""
        return self._ground.location(self._place(folder))

    def below(self, place: str, name: str) -> str:
        """Where something in a folder is."""
        return f"{place.rstrip('/')}/{name}"

    def identity(self, place: str) -> tuple[int, int]:
        """Which file system a folder is on, and its inode."""
        status = self._find_place(place).status()
        return status.st_dev, status.st_ino

    @contextlib.contextmanager
    def entries(self, place: str) -> "Iterator[Iterator[os.DirEntry[str]]]":
        """The entries of a folder."""
        folder = self._find_place(place).open(os.O_RDONLY | os.O_DIRECTORY)
        try:
            with os.scandir(folder) as entries:
                yield entries
        finally:
            os.close(folder)

    def head(self, place: str, size: int) -> bytes:
        """The first bytes of a file."""
        file = self._find_place(place).open_quietly()
        try:
            return os.read(file, size)
        finally:
            os.close(file)

    def _find_place(self, place: str) -> Place:
        return self._ground.place(place)
