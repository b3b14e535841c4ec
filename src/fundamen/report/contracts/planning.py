"""The JSON of ``fundamen plans show``."""

from typing import Literal

import msgspec

from fundamen.restore.plan_file import PlanFile


class PlanRecord(msgspec.Struct, frozen=True):
    """A plan as its file has it."""

    plan: PlanFile
    schema: Literal["fundamen.plan-shown/1"] = "fundamen.plan-shown/1"


def plan_record(plan: PlanFile) -> PlanRecord:
    """The contract's form of a plan."""
    return PlanRecord(plan)
