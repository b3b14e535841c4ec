"""Give the files of any container, with paths that were checked."""

import io
from collections.abc import Iterator
from typing import IO, Protocol

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

MOST_MEMBERS = 150_000
MOST_UNPACKED = 64 << 30  # bytes of one container
_MOST_RATIO = 200  # of what is unpacked to what is packed; no installer comes near it
_LEAST_SUSPECT = 64 << 20  # bytes: below, no ratio is suspect

Unpacked = Iterator[tuple["PackedFile", "Readable"]]


class Readable(Protocol):
    """The bytes of one file of a container."""

    def read(self, size: int = -1, /) -> bytes:
        """The next bytes; fewer at the end. Raises: DamagedFileError: the container is damaged."""


class PackedFile(msgspec.Struct, frozen=True):
    """One file, link or folder of a container."""

    path: str  # below the container, its parts separated by "/"; none of them leads elsewhere
    mode: int  # permission bits; 0o644 where the container has none
    size: int  # bytes
    link: str = ""  # the target, of a symbolic link
    same_as: str = ""  # the path of the file that it is a hard link to
    owner: str = ""  # the user to whom it belongs, by name; empty where the container does not say
    group: str = ""  # likewise
    is_folder: bool = False  # of Debian packages only: others may leave folders out


def plain_path(what: str, name: str) -> str:
    """A member's path with plain parts, on whichever system it is unpacked.

    Raises:
        DamagedFileError: it leads out of the container, or is none: a package that no one made in good faith.
    """
    path = unix_path(what, name.replace("\\", "/"))
    if path.partition("/")[0].endswith(":"):
        raise _leads_elsewhere(what, name)
    return path


def unix_path(what: str, name: str) -> str:
    """The same of a container for Unix alone: a backslash and a colon are as good as any character there.

    Raises:
        DamagedFileError: likewise.
    """
    path = name.removeprefix("./").removeprefix("/")
    if not path or any(part in {"", ".", ".."} for part in path.split("/")) or "\0" in path:
        raise _leads_elsewhere(what, name)
    return path


def _leads_elsewhere(what: str, name: str) -> DamagedFileError:
    return damage_error(what, say("formats.it-names-the-path-which-leads", name=printable(name)))


class Bounds:
    """Counts what comes out of a container, and refuses more than any real one holds."""

    def __init__(self, what: str, packed_size: int, most: int = MOST_UNPACKED, *, of_unix: bool = False) -> None:
        """Begin to count.

        Args:
            what: the container, for the message.
            packed_size: bytes.
            most: how many bytes may come out of it.
            of_unix: whether names that differ only by case are two.
        """
        self._what = what
        self._of_unix = of_unix
        self._packed_size = packed_size
        self._most = most
        self._count = self._size = 0
        self._paths: set[str] = set()

    def add(self, path: str, size: int) -> None:
        """Count one file or link.

        Raises:
            DamagedFileError: there are too many, or too much, or the same path is there twice.
        """
        self.count(size)
        key = path if self._of_unix else path.lower()
        if key in self._paths:
            raise damage_error(self._what, say("formats.it-holds-the-path-twice", path=printable(path)))
        self._paths.add(key)

    def count(self, size: int) -> None:
        """Count a member whose path may come again. Raises: DamagedFileError: there are too many, or too much."""
        self._count += 1
        self._size += max(size, 0)
        is_bomb = self._size > _LEAST_SUSPECT and self._size > self._packed_size * _MOST_RATIO
        if self._count > MOST_MEMBERS or self._size > self._most or is_bomb:
            raise damage_error(
                self._what, say("formats.it-unpacks-to-bytes-in-files", size=self._size, count=self._count)
            )

    def require_stream(self, size: int) -> None:
        """Compare the unpacked size so far with the bounds of a real stream. Raises: DamagedFileError."""
        if size > self._most or (size > _LEAST_SUSPECT and size > self._packed_size * _MOST_RATIO):
            raise damage_error(self._what, say("formats.it-unpacks-to-bytes-and-more", size=size))


class Metered(io.RawIOBase):
    """An unpacked stream that ends as damaged where it gives more than any real one."""

    def __init__(self, data: IO[bytes], bounds: Bounds) -> None:
        """Meter a stream; its container's bounds say how much is too much."""
        self._data, self._bounds, self._size = data, bounds, 0

    def readable(self) -> bool:
        """It can be read."""
        return True

    def read(self, size: int = -1) -> bytes:
        """The next bytes; fewer at the end. Raises: DamagedFileError."""
        piece = self._data.read(size)
        self._size += len(piece)
        self._bounds.require_stream(self._size)
        return piece


class Guarded(io.RawIOBase):
    """A file of a container whose bytes are read while the container is open; what goes wrong then is damage."""

    def __init__(self, data: IO[bytes], what: str, raised: tuple[type[Exception], ...]) -> None:
        """Guard a file.

        Args:
            data: the library's own file.
            what: the container, for the message.
            raised: all that the library raises over damaged bytes.
        """
        self._data = data
        self._what = what
        self._raised = raised

    def readable(self) -> bool:
        """It can be read."""
        return True

    def read(self, size: int = -1) -> bytes:
        """The next bytes; fewer at the end. Raises: DamagedFileError."""
        try:
            return self._data.read(size)
        except self._raised as error:
            raise damage_error(
                self._what, say("formats.it-cannot-be-unpacked", error=error or type(error).__name__)
            ) from error
