"""The contract of ``fleet`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.survey.fleet import Fleet


class FleetFaultPart(msgspec.Struct, frozen=True):
    """A fault, and the machines that share it."""

    name: str
    verdict: str
    machines: tuple[str, ...]
    programs: int


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
    why: str


class FleetRecord(msgspec.Struct, frozen=True, kw_only=True):
    """Many machines by their captures."""

    machines: tuple[str, ...]
    components: dict[str, dict[str, str]]  # name -> machine -> version
    faults: tuple[FleetFaultPart, ...]
    outliers: tuple[OutlierPart, ...]
    refused: tuple[RefusedPart, ...]
    schema: Literal["fundamen.fleet/1"] = "fundamen.fleet/1"


def fleet_record(fleet: Fleet) -> FleetRecord:
    """Many machines as JSON has them."""
    return FleetRecord(
        machines=fleet.machines,
        components=fleet.components,
        faults=tuple(FleetFaultPart(e.name, e.verdict, e.machines, e.programs) for e in fleet.faults),
        outliers=tuple(
            OutlierPart(e.machine, e.component, e.version or None, e.usual or None, e.alike) for e in fleet.outliers
        ),
        refused=tuple(RefusedPart(e.path, e.why) for e in fleet.refused),
    )
