"""How a requirement stands."""

from enum import StrEnum

import msgspec

from fundamen.messages import Message


class RequirementStanding(StrEnum):
    """How a requirement stands. Each word is shown to technicians and is part of the JSON contract."""

    MET = "met"
    UNMET = "unmet"
    UNKNOWN = "unknown"  # it could not be found out, and the answer says why


class Answer(msgspec.Struct, frozen=True):
    """How one requirement stands, and why."""

    standing: RequirementStanding
    found: Message  # what was found, or why nothing could be


def met(found: Message) -> Answer:
    """That it is as it must be."""
    return Answer(RequirementStanding.MET, found)


def unmet(found: Message) -> Answer:
    """That it is not."""
    return Answer(RequirementStanding.UNMET, found)


def unknown(why: Message) -> Answer:
    """That it could not be found out."""
    return Answer(RequirementStanding.UNKNOWN, why)


def met_if(is_so: bool, found: Message) -> Answer:  # noqa: FBT001 - reads as a sentence: met_if(a == b, found)
    """Met or unmet."""
    return met(found) if is_so else unmet(found)
