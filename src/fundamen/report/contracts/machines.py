"""The contracts of ``compare``, ``fleet`` and ``capture`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.formats.capture_file import CaptureManifest
from fundamen.messages import Message, as_said
from fundamen.report.contracts.line import Failure
from fundamen.survey.comparing import MachineComparison
from fundamen.survey.fleet import Fleet, FleetFault


class MachineDifferencePart(msgspec.Struct, frozen=True):
    """One thing that is not the same on both."""

    about: str  # component, package, certificate, service, setting, variable, file
    name: str
    here: Message
    there: Message
    program: str | None  # for which it matters; null where it is of the machines as a whole
    is_decisive: bool  # it is a fault on one side alone


class CompareRecord(msgspec.Struct, frozen=True, kw_only=True):
    """Two machines or trees side by side."""

    here: str
    there: str
    differences: tuple[MachineDifferencePart, ...] = ()
    alike: int = 0  # components, or files of trees, that are the same
    gaps: tuple[Message, ...] = ()
    shared_faults: tuple[str, ...] = ()  # components that are at fault on both, in the same way
    error: Failure | None = None
    schema: Literal["fundamen.compare/2"] = "fundamen.compare/2"


def compare_record(comparison: MachineComparison) -> CompareRecord:
    """A comparison as JSON has it."""
    return CompareRecord(
        here=str(comparison.here),
        there=str(comparison.there),
        differences=tuple(
            MachineDifferencePart(
                e.about, str(e.name), as_said(e.here), as_said(e.there), e.program or None, e.is_decisive
            )
            for e in comparison.differences
        ),
        alike=comparison.alike,
        gaps=comparison.gaps,
        shared_faults=comparison.shared_faults,
    )


class OutlierPart(msgspec.Struct, frozen=True):
    """A machine that has a component otherwise than nearly all others."""

    machine: str
    component: str
    version: str | None  # null where it lacks it
    usual: str | None  # null where nearly all others lack it
    alike: int


class RefusedPart(msgspec.Struct, frozen=True):
    """A capture that is not counted."""

    path: str
    why: Message


class FleetRecord(msgspec.Struct, frozen=True, kw_only=True):
    """Many machines by their captures."""

    machines: tuple[str, ...]
    components: dict[str, dict[str, str]]  # name -> machine -> version
    faults: tuple[FleetFault, ...]
    outliers: tuple[OutlierPart, ...]
    refused: tuple[RefusedPart, ...]
    schema: Literal["fundamen.fleet/2"] = "fundamen.fleet/2"


def fleet_record(fleet: Fleet) -> FleetRecord:
    """Many machines as JSON has them."""
    return FleetRecord(
        machines=fleet.machines,
        components=fleet.components,
        faults=fleet.faults,
        outliers=tuple(
            OutlierPart(e.machine, e.component, e.version or None, e.usual or None, e.alike) for e in fleet.outliers
        ),
        refused=tuple(RefusedPart(e.path, e.why) for e in fleet.refused),
    )


class CaptureRecord(msgspec.Struct, frozen=True):
    """A capture that was written."""

    file: str
    machine: str
    made_at: str
    of: tuple[str, ...]
    files: int  # that it has bytes of
    bytes: int
    left_out: tuple[str, ...]
    schema: Literal["fundamen.captured/1"] = "fundamen.captured/1"


def capture_record(file: str, manifest: CaptureManifest) -> CaptureRecord:
    """A capture as JSON has it."""
    return CaptureRecord(
        file=file,
        machine=str(manifest.machine),
        made_at=manifest.made_at.isoformat(),
        of=tuple(map(str, manifest.of)),
        files=manifest.files,
        bytes=manifest.bytes,
        left_out=manifest.left_out,
    )
