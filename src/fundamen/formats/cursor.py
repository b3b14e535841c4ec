"""Read records out of hostile bytes: every bound is checked here, so that no reader has to."""

import io
import struct
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from threading import Lock
from typing import IO, TYPE_CHECKING, Any, Protocol

from fundamen.model.binary import Problem
from fundamen.model.errors import CutFileError, DamagedFileError
from fundamen.model.paths import shown

if TYPE_CHECKING:
    from typing_extensions import Buffer  # the standard library has it only from 3.12 on

_SHORT_TEXT = 256  # bytes; most names are shorter, and so short a read is served from a block that is at hand
_PIECE = 1 << 18  # bytes that are hashed at once
_MOST_PROBLEMS = 20  # a hostile file could give thousands; a technician reads a few
MAX_TABLE = 64 << 20  # bytes; no table of a real executable comes near it

Ranges = Sequence[tuple[int, int]]  # (begin, end) each, in bytes from the start of a source


class ByteSource(Protocol):
    """Bytes that can be read at any offset, such as an open file."""

    @property
    def name(self) -> str:
        """What the bytes are, for messages."""

    @property
    def size(self) -> int:
        """How many bytes there are."""

    def read_at(self, offset: int, size: int) -> bytes:
        """Give ``size`` bytes from ``offset``; fewer where the source ends before."""


class MemoryBytes:
    """Bytes in memory as a source."""

    def __init__(self, data: bytes, name: str = "data") -> None:
        self.name = name
        self.size = len(data)
        self._data = data

    def read_at(self, offset: int, size: int) -> bytes:
        """Give ``size`` bytes from ``offset``; fewer where the source ends before."""
        return self._data[offset : offset + size]


class SharedFile:
    """A file of which several readers, in threads of their own, read at places of their own."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self._lock = Lock()

    def read_at(self, offset: int, size: int) -> bytes:
        """Give ``size`` bytes from ``offset``; fewer where the file ends before. Raises: OSError."""
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
            raise ValueError("a place before the beginning")
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


class PartOf:
    """A part of a source as a source of its own."""

    def __init__(self, source: ByteSource, offset: int, size: int, name: str = "") -> None:
        """Take ``size`` bytes from ``offset``; the name is the source's where none is given."""
        self.name = name or source.name
        self.size = size
        self._source = source
        self._offset = offset

    def read_at(self, offset: int, size: int) -> bytes:
        """Give ``size`` bytes from ``offset``; fewer where the part ends before."""
        return self._source.read_at(self._offset + offset, max(0, min(size, self.size - offset)))


class Digesting(ABC):
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


class Cursor:
    """A place in a source, moving forward as records are read.

    Every method raises DamagedFileError, naming place and bounds, where the bytes asked for are not all there.
    """

    def __init__(self, source: ByteSource, at: int = 0) -> None:
        self.at = at  # bytes from the start of the source
        self._source = source

    def unpack(self, record: struct.Struct, what: str) -> tuple[Any, ...]:
        """Read one record and move past it."""
        return record.unpack(self.take(record.size, what))

    def table(self, record: struct.Struct, count: int, what: str) -> Iterator[tuple[Any, ...]]:
        """Read ``count`` records that lie one behind the other, and move past them."""
        return record.iter_unpack(self.take(record.size * count, what))

    def take(self, size: int, what: str) -> bytes:
        """Read ``size`` bytes and move past them."""
        end = self.at + size
        if self.at < 0 or size < 0 or end > self._source.size:
            raise self._damaged(what, beyond_end(self.at, size, self._source.size), CutFileError)
        if size > MAX_TABLE:
            raise self._damaged(what, f"claims {size} bytes, more than any real file has")
        data = self._source.read_at(self.at, size)
        if len(data) != size:
            raise self._damaged(what, f"could be read only up to byte {self.at + len(data)}; the file is changing")
        self.at = end
        return data

    def text(self, what: str, limit: int = 4096) -> str:
        """Read a NUL-terminated string of at most ``limit`` bytes, and move past its NUL.

        Bytes that are not UTF-8 are kept as surrogate escapes.
        """
        if not 0 <= self.at < self._source.size:
            raise self._damaged(what, beyond_end(self.at, 1, self._source.size), CutFileError)
        raw, terminator, _ = self._source.read_at(self.at, min(limit, _SHORT_TEXT)).partition(b"\0")
        if not terminator:
            raw, terminator, _ = self._source.read_at(self.at, limit + 1).partition(b"\0")
        if not terminator:
            raise self._damaged(what, f"at byte {self.at} has no end within {limit} bytes")
        self.at += len(raw) + 1
        return raw.decode("utf-8", "surrogateescape")

    def _damaged(self, what: str, why: str, kind: type[DamagedFileError] = DamagedFileError) -> DamagedFileError:
        return kind(
            what=f"{shown(self._source.name)} cannot be read on",
            why=f"its {what} {why}",
            do="Compare the file with its publisher's package.",
        )


def damaged(what: str, why: str) -> DamagedFileError:
    """The error for a file that breaks the rules of its format.

    Args:
        what: which part of which file, as "The imports of libtide.dylib".
        why: what was found where, against what was expected.
    """
    return DamagedFileError(what=f"{what} cannot be read", why=why, do="Compare it with its publisher's package.")


def beyond_end(offset: int, size: int, file_size: int) -> str:
    """Why some bytes cannot all be there."""
    return f"takes bytes {offset} to {offset + size}, but the file ends at {file_size}"


class Findings:
    """Problems met while reading one file: each table is read for itself, so that one bad table hides no other.

    Use as ``with findings.of("dynamic section"): ...``; a DamagedFileError inside becomes a problem.
    """

    def __init__(self) -> None:
        self._problems: list[Problem] = []

    def of(self, place: str) -> "_Reading":
        """Say which table the following block reads."""
        return _Reading(self, place)

    def add(self, place: str, reason: str, *, is_cut: bool = False) -> None:
        """Note a problem that does not stop the reading of its table."""
        if len(self._problems) < _MOST_PROBLEMS:
            self._problems.append(Problem(place, reason, is_cut))

    def check_extent(self, place: str, offset: int, size: int, file_size: int) -> bool:
        """Note it where bytes that a table names are not all in the file; tell whether they are."""
        if offset + size <= file_size:
            return True
        self.add(place, beyond_end(offset, size, file_size), is_cut=True)
        return False

    def listed(self) -> tuple[Problem, ...]:
        """All problems so far."""
        return tuple(self._problems)


class _Reading:
    def __init__(self, findings: Findings, place: str) -> None:
        self._findings = findings
        self._place = place

    def __enter__(self) -> None:
        pass

    def __exit__(self, _type: object, error: BaseException | None, _trace: object) -> bool:
        if isinstance(error, DamagedFileError):
            reason = error.why.removeprefix(f"its {self._place} ")
            self._findings.add(self._place, reason, is_cut=isinstance(error, CutFileError))
            return True
        return False
