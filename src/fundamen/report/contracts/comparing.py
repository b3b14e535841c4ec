"""The contracts of ``references list``, ``compare`` and ``restore`` with ``--json``."""

from collections.abc import Sequence
from typing import Literal

import msgspec

from fundamen.sources.reference import Baseline, ReferenceComparison, ReferenceDifference


class ComparisonRecord(msgspec.Struct, frozen=True):
    """A tree against a baseline."""

    reference: str
    recorded_at: str
    tree: str
    faults: int
    restorable: int
    number: int | None  # of the restoration, where one was performed
    differences: tuple[ReferenceDifference, ...]
    schema: Literal["fundamen.comparison/2"] = "fundamen.comparison/2"


def comparison_record(comparison: ReferenceComparison, number: int | None = None) -> ComparisonRecord:
    """The contract's form of a comparison."""
    return ComparisonRecord(
        reference=comparison.baseline.name,
        recorded_at=comparison.baseline.recorded_at.isoformat(),
        tree=comparison.tree,
        faults=len(comparison.at_fault),
        restorable=len(comparison.restorable),
        number=number,
        differences=comparison.differences,
    )


class ReferencePart(msgspec.Struct, frozen=True):
    """One recorded reference."""

    name: str
    location: str
    recorded_at: str
    files: int
    platform: str | None  # of a clean machine's root


class ReferencesRecord(msgspec.Struct, frozen=True):
    """The recorded references."""

    references: tuple[ReferencePart, ...]
    schema: Literal["fundamen.references/1"] = "fundamen.references/1"


def references_record(recorded: Sequence[Baseline]) -> ReferencesRecord:
    """The contract's form of what was recorded."""
    parts = (ReferencePart(b.name, b.location, b.recorded_at.isoformat(), len(b.entries), b.platform) for b in recorded)
    return ReferencesRecord(tuple(parts))
