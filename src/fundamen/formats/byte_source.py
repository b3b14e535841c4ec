"""Bytes that are read at any offset: files, parts of files, what lies in memory; and their digests."""

import io
from abc import ABC, abstractmethod
from collections.abc import Sequence
from threading import Lock
from typing import IO, TYPE_CHECKING, final

from fundamen.messages import say

if TYPE_CHECKING:
    from typing_extensions import Buffer  # the standard library has it only from 3.12 on

_PIECE = 1 << 18  # bytes that are hashed at once

Ranges = Sequence[tuple[int, int]]  # (begin, end) each, in bytes from the start of a source


class ByteSource(ABC):
    """Bytes that can be read at any offset, such as an open file.

    Every read passes ``read_at``, the one door: an offset or size out of a hostile file reaches no system call.

    Attributes:
        name: what the bytes are, for messages.
        size: how many bytes there are.
    """

    def __init__(self, name: str, size: int) -> None:
        self.name = name
        self.size = size

    @final
    def read_at(self, offset: int, size: int) -> bytes:
        """Give ``size`` bytes from ``offset``; fewer where the source ends before, none from outside of it."""
        left = self.size - offset
        if offset < 0 or size <= 0 or left <= 0:
            return b""
        return self._read(offset, min(left, size))

    @abstractmethod
    def _read(self, offset: int, size: int) -> bytes:
        """Read bytes that lie within ``size``; fewer where they are there no more."""


class MemoryBytes(ByteSource):
    """Bytes in memory as a source."""

    def __init__(self, data: bytes, name: str = "data") -> None:
        super().__init__(name, len(data))
        self._data = data

    def _read(self, offset: int, size: int) -> bytes:
        return self._data[offset : offset + size]


class SharedFile(ByteSource):
    """A file of which several readers, in threads of their own, read at places of their own."""

    def __init__(self, file: IO[bytes], name: str, size: int | None = None) -> None:
        """Take an open file, and its size where that is known."""
        super().__init__(name, file.seek(0, io.SEEK_END) if size is None else size)
        self._file = file
        self._lock = Lock()

    def _read(self, offset: int, size: int) -> bytes:
        with self._lock:
            self._file.seek(offset)
            return self._file.read(size)


class SourceStream(io.RawIOBase):
    """A source of bytes as a file, which libraries ask for."""

    def __init__(self, source: ByteSource) -> None:
        self._source = source
        self._at = 0

    def readable(self) -> bool:
        """It can be read."""
        return True

    def seekable(self) -> bool:
        """It can be read at any place."""
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        """Go to a place. Raises: ValueError: it lies before the beginning."""
        self._at = offset + (0, self._at, self._source.size)[whence]
        if self._at < 0:
            raise ValueError(say("formats.a-place-before-the-beginning"))
        return self._at

    def tell(self) -> int:
        """The place."""
        return self._at

    def read(self, size: int = -1) -> bytes:
        """The next bytes; fewer at the end."""
        left = max(0, self._source.size - self._at)
        data = self._source.read_at(self._at, left if size < 0 else min(size, left))
        self._at += len(data)
        return data

    def readinto(self, buffer: "Buffer") -> int:
        """The next bytes, into a buffer; how many there were."""
        view = memoryview(buffer)
        data = self.read(len(view))
        view[: len(data)] = data
        return len(data)


class PartOf(ByteSource):
    """A part of a source as a source of its own."""

    def __init__(self, source: ByteSource, offset: int, size: int, name: str = "") -> None:
        """Take ``size`` bytes from ``offset``; the name is the source's where none is given."""
        super().__init__(name or source.name, size)
        self._source = source
        self._offset = offset

    def _read(self, offset: int, size: int) -> bytes:
        return self._source.read_at(self._offset + offset, size)


class Digesting(ByteSource):
    """A source that knows digests of its bytes, whether or not it has the bytes."""

    @abstractmethod
    def digest_of(self, algorithm: str, ranges: Ranges, zeros: int) -> bytes:
        """As ``digest_of_ranges`` gives it."""


def digest_of_ranges(source: ByteSource, algorithm: str, ranges: Ranges, zeros: int = 0) -> bytes:
    """The digest of some ranges, one behind the other, and of so many zeros behind them.

    Args:
        source: the bytes.
        algorithm: as hashlib names it.
        ranges: (begin, end) each, in bytes; none of it where it ends before it begins.
        zeros: bytes that are digested last.
    """
    if isinstance(source, Digesting):
        return source.digest_of(algorithm, ranges, zeros)
    return computed_digest(source, algorithm, ranges, zeros)


def computed_digest(source: ByteSource, algorithm: str, ranges: Ranges, zeros: int) -> bytes:
    """The same, of the bytes themselves."""
    import hashlib  # noqa: PLC0415 - most files are read without it

    state = hashlib.new(algorithm, usedforsecurity=False)
    for begin, end in ranges:
        at = begin
        while at < end and (piece := source.read_at(at, min(_PIECE, end - at))):
            state.update(piece)
            at += len(piece)
    state.update(bytes(zeros))
    return state.digest()
