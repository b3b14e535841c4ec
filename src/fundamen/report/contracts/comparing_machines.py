"""The contract of ``compare`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.report.contracts.line import Failure
from fundamen.survey.comparing import MachineComparison


class MachineDifferencePart(msgspec.Struct, frozen=True):
    """One thing that is not the same on both."""

    about: str  # component, package, certificate, service, setting, variable, file
    name: str
    here: str
    there: str
    program: str | None  # for which it matters; null where it is of the machines as a whole
    is_decisive: bool  # it is a fault on one side alone


class CompareRecord(msgspec.Struct, frozen=True, kw_only=True):
    """Two machines or trees side by side."""

    here: str
    there: str
    differences: tuple[MachineDifferencePart, ...] = ()
    alike: int = 0  # components, or files of trees, that are the same
    gaps: tuple[str, ...] = ()
    shared_faults: tuple[str, ...] = ()  # components that are at fault on both, in the same way
    error: Failure | None = None
    schema: Literal["fundamen.compare/1"] = "fundamen.compare/1"


def compare_record(comparison: MachineComparison) -> CompareRecord:
    """A comparison as JSON has it."""
    return CompareRecord(
        here=comparison.here,
        there=comparison.there,
        differences=tuple(
            MachineDifferencePart(e.about, e.name, e.here, e.there, e.program or None, e.is_decisive)
            for e in comparison.differences
        ),
        alike=comparison.alike,
        gaps=comparison.gaps,
        shared_faults=comparison.shared_faults,
    )
