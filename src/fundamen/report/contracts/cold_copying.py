"""The contracts of ``cold-copies`` with ``--json``."""

from collections.abc import Sequence
from typing import Literal

import msgspec

from fundamen.cold_copies.manifest import ColdCopy, SkippedEntry
from fundamen.messages import Message


class CopiedPart(msgspec.Struct, frozen=True):
    """One entry of a copy."""

    path: str
    kind: str
    size: int
    sha256: str  # empty for what is no file


class ColdCopyPart(msgspec.Struct, frozen=True):
    """One cold copy."""

    number: int
    folder: str
    taken_at: str
    because: str
    files: int
    size: int
    archive_size: int
    archive_sha256: str
    left_out: tuple[SkippedEntry, ...]
    unquiet: tuple[str, ...]  # files that changed while they were copied
    damage: Message | None  # why it cannot be used; empty also where it was not read back
    entries: tuple[CopiedPart, ...] | None  # only where all copies are listed


class ColdCopiesRecord(msgspec.Struct, frozen=True):
    """Cold copies, for ``cold-copies make``, ``list`` and ``check``."""

    copies: tuple[ColdCopyPart, ...]
    faults: int
    schema: Literal["fundamen.cold-copies/2"] = "fundamen.cold-copies/2"


def cold_copies_record(copies: Sequence[tuple[ColdCopy, Message]], *, with_entries: bool) -> ColdCopiesRecord:
    """The contract's form of copies, each with why it is damaged."""
    return ColdCopiesRecord(
        tuple(_part(copy, why, with_entries=with_entries) for copy, why in copies), sum(bool(why) for _, why in copies)
    )


def _part(copy: ColdCopy, why: Message, *, with_entries: bool) -> ColdCopyPart:
    entries = tuple(CopiedPart(e.path, e.kind, e.state.size, e.state.sha256) for e in copy.entries)
    return ColdCopyPart(
        number=copy.number,
        folder=copy.folder,
        taken_at=copy.taken_at.isoformat(),
        because=copy.because,
        files=copy.file_count,
        size=copy.size,
        archive_size=copy.archive_size,
        archive_sha256=copy.archive_sha256,
        left_out=copy.left_out,
        unquiet=copy.unquiet,
        damage=why,
        entries=entries if with_entries else None,
    )
