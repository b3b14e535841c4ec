"""The contract of ``prereqs`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.messages import Message, as_said
from fundamen.prerequisites.answer import RequirementStanding
from fundamen.prerequisites.checking import CheckedRequirement, CheckOutcome
from fundamen.prerequisites.sheet import Sheet
from fundamen.report.contracts.line import Failure


class RequirementPart(msgspec.Struct, frozen=True):
    """One requirement with how it stands."""

    id: str
    kind: str
    standing: RequirementStanding
    needed: Message
    found: Message
    because: str
    remedy: Message
    who: str
    after: tuple[str, ...]
    held_up_by: tuple[str, ...]  # forerunners that must be met before it can be checked


class SkippedRequirementPart(msgspec.Struct, frozen=True):
    """A requirement that does not count on this machine."""

    id: str
    why: Message


class PrereqsRecord(msgspec.Struct, frozen=True):
    """A sheet against a machine."""

    sheet: str  # its file, as it was named
    name: str = ""
    requirements: tuple[RequirementPart, ...] = ()  # in the order in which they depend on each other
    left_out: tuple[SkippedRequirementPart, ...] = ()
    faults: int = 0  # those that are unmet
    unknown: int = 0
    next: tuple[Message, ...] = ()
    error: Failure | None = None
    schema: Literal["fundamen.prereqs/2"] = "fundamen.prereqs/2"


def prereqs_record(path: str, sheet: Sheet, outcome: CheckOutcome, following: tuple[Message, ...]) -> PrereqsRecord:
    """A sheet against a machine, as JSON has it."""
    return PrereqsRecord(
        sheet=path,
        name=sheet.name,
        requirements=tuple(map(_part, outcome.checked)),
        left_out=tuple(SkippedRequirementPart(each.requirement.id, each.why) for each in outcome.left_out),
        faults=len(outcome.of(RequirementStanding.UNMET)),
        unknown=len(outcome.of(RequirementStanding.UNKNOWN)),
        next=following,
    )


def _part(checked: CheckedRequirement) -> RequirementPart:
    requirement = checked.requirement
    return RequirementPart(
        id=requirement.id,
        kind=requirement.kind,
        standing=checked.answer.standing,
        needed=as_said(requirement.needed),
        found=checked.answer.found,
        because=requirement.because,
        remedy=as_said(requirement.remedy) if requirement.remedy else requirement.advice,
        who=requirement.who,
        after=requirement.after,
        held_up_by=checked.held_up_by,
    )
