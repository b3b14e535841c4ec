"""Read records out of hostile bytes: every bound is checked here, so that no reader has to."""

import struct
from collections.abc import Iterator
from typing import Any

from fundamen.formats.byte_source import ByteSource
from fundamen.messages import Message, say
from fundamen.model.binary import Problem
from fundamen.model.display import printable
from fundamen.model.errors import CutFileError, DamagedFileError

_SHORT_TEXT = 256  # bytes; most names are shorter, and so short a read is served from a block that is available
_MOST_PROBLEMS = 20  # a hostile file could give thousands; a technician reads a few
MAX_TABLE = 64 << 20  # bytes; no table of a real executable comes near it


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
            raise self._damaged_part(what, beyond_end(self.at, size, self._source.size), CutFileError)
        if size > MAX_TABLE:
            raise self._damaged_part(what, say("formats.claims-bytes-more-than-any-real", size=size))
        data = self._source.read_at(self.at, size)
        if len(data) != size:
            raise self._damaged_part(what, say("formats.could-be-read-only-up-to", at=self.at + len(data)))
        self.at = end
        return data

    def text(self, what: str, limit: int = 4096) -> str:
        """Read a NUL-terminated string of at most ``limit`` bytes, and move past its NUL.

        Bytes that are not UTF-8 are kept as surrogate escapes.
        """
        if not 0 <= self.at < self._source.size:
            raise self._damaged_part(what, beyond_end(self.at, 1, self._source.size), CutFileError)
        raw, terminator, _ = self._source.read_at(self.at, min(limit, _SHORT_TEXT)).partition(b"\0")
        if not terminator:
            raw, terminator, _ = self._source.read_at(self.at, limit + 1).partition(b"\0")
        if not terminator:
            raise self._damaged_part(what, say("formats.at-byte-has-no-end-within", at=self.at, limit=limit))
        self.at += len(raw) + 1
        return raw.decode("utf-8", "surrogateescape")

    def _damaged_part(self, what: str, why: str, kind: type[DamagedFileError] = DamagedFileError) -> DamagedFileError:
        return kind(
            what=say("formats.cannot-be-read-on", name=printable(self._source.name)),
            why=say("formats.its", what=what, why=why),
            do=say("formats.compare-the-file-with-its-publisher"),
        )


def damage_error(what: str, why: str) -> DamagedFileError:
    """The error for a file that breaks the rules of its format.

    Args:
        what: which part of which file, as "The imports of libtide.dylib".
        why: what was found where, against what was expected.
    """
    return DamagedFileError(
        what=say("formats.cannot-be-read", what=what), why=why, do=say("formats.compare-it-with-its-publisher-package")
    )


def beyond_end(offset: int, size: int, file_size: int) -> Message:
    """Why some bytes cannot all be there."""
    return say("formats.takes-bytes-to-but-the-file", offset=offset, other_offset=offset + size, file_size=file_size)


class StructureFindings:
    """Problems met while reading one file: each table is read for itself, so that one bad table hides no other.

    Use as ``with findings.of("dynamic section"): ...``; a DamagedFileError inside becomes a problem.
    """

    def __init__(self) -> None:
        self._problems: list[Problem] = []

    def of(self, place: str) -> "_Reading":
        """Say which table the following block reads."""
        return _Reading(self, place)

    def add(self, place: str, reason: Message, *, is_cut: bool = False) -> None:
        """Note a problem that does not stop the reading of its table."""
        if len(self._problems) < _MOST_PROBLEMS:
            self._problems.append(Problem(place, reason, is_cut))

    def check_extent(self, place: str, offset: int, size: int, file_size: int) -> bool:
        """Note it where bytes that a table names are not all in the file; tell whether they are."""
        if offset + size <= file_size:
            return True
        self.add(place, beyond_end(offset, size, file_size), is_cut=True)
        return False

    def all_problems(self) -> tuple[Problem, ...]:
        """All problems so far."""
        return tuple(self._problems)


class _Reading:
    def __init__(self, findings: StructureFindings, place: str) -> None:
        self._findings = findings
        self._place = place

    def __enter__(self) -> None:
        pass

    def __exit__(self, _type: object, error: BaseException | None, _trace: object) -> bool:
        if isinstance(error, DamagedFileError):
            shorter = error.why.removeprefix(f"its {self._place} ")  # the place is said already
            reason = Message(shorter, error.why.code, error.why.values)
            self._findings.add(self._place, reason, is_cut=isinstance(error, CutFileError))
            return True
        return False
