"""The contracts of ``case --json`` and ``handoff --json``."""

from datetime import datetime
from typing import Literal

import msgspec

from fundamen.cases.handoff import Attempt, Handoff, RequestedThing, RequestEvidence
from fundamen.cases.ladder import Ladder
from fundamen.cases.store import Case, CaseFacts


class CaseEntryPart(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that was noted, run or tried."""

    number: int  # in the case, from 1: as ``case forget`` takes it
    at: datetime
    kind: str  # "note", "command", "tried"
    text: str
    facts: CaseFacts


class CaseRecord(msgspec.Struct, frozen=True, kw_only=True):
    """One case."""

    schema: Literal["fundamen.case/1"] = "fundamen.case/1"
    number: int
    id: str
    title: str
    machine: str
    opened_at: datetime
    closed_at: datetime | None
    helped: str | None
    entries: tuple[CaseEntryPart, ...]


class RungPart(msgspec.Struct, frozen=True, kw_only=True):
    """One remedy of the ladder."""

    remedy: str
    do: str
    command: str | None
    disturbs: int  # 0 it only looks ... 4 it cannot simply be undone
    needs: tuple[str, ...]
    proves: str
    outcome: str | None = msgspec.field(
        name="came"
    )  # "helped", "changed nothing", "made it worse"; null where it was not tried
    was_run: bool  # its command was run in the case


class LadderRecord(msgspec.Struct, frozen=True, kw_only=True):
    """The ladder of a case."""

    schema: Literal["fundamen.ladder/1"] = "fundamen.ladder/1"
    case: int
    about: str
    next: str | None
    rungs: tuple[RungPart, ...]


class HandoffRecord(msgspec.Struct, frozen=True, kw_only=True):
    """A request."""

    schema: Literal["fundamen.handoff/1"] = "fundamen.handoff/1"
    to: str
    case: str
    number: int
    made_at: datetime
    machine: str
    program: str | None
    wanted: tuple[RequestedThing, ...]
    evidence: tuple[RequestEvidence, ...]
    check: tuple[str, ...]
    tried: tuple[Attempt, ...]
    sound: bool  # the latest trace has found nothing at fault
    asked_back: tuple[str, ...]  # what its recipient would have to ask


class MergeRecord(msgspec.Struct, frozen=True, kw_only=True):
    """The cases that were added from another folder."""

    schema: Literal["fundamen.merge/1"] = "fundamen.merge/1"
    cases: int  # that are new here
    entries: int


def case_record(case: Case) -> CaseRecord:
    """The contract's form of a case."""
    return CaseRecord(
        number=case.number,
        id=case.id,
        title=case.title,
        machine=case.machine,
        opened_at=case.opened_at,
        closed_at=case.closed_at,
        helped=case.helped,
        entries=tuple(
            CaseEntryPart(number=number, at=entry.at, kind=entry.kind, text=entry.text, facts=entry.facts)
            for number, entry in enumerate(case.entries, 1)
        ),
    )


def ladder_record(case: Case, ladder: Ladder) -> LadderRecord:
    """The contract's form of a ladder."""
    return LadderRecord(
        case=case.number,
        about=ladder.about,
        next=ladder.next.remedy.id if ladder.next is not None else None,
        rungs=tuple(
            RungPart(
                remedy=rung.remedy.id,
                do=rung.do,
                command=rung.command or None,
                disturbs=rung.remedy.disturbs,
                needs=rung.remedy.needs,
                proves=rung.remedy.proves,
                outcome=rung.outcome,
                was_run=rung.was_run,
            )
            for rung in ladder.rungs
        ),
    )


def handoff_record(request: Handoff) -> HandoffRecord:
    """The contract's form of a request."""
    return HandoffRecord(
        to=request.to,
        case=request.case,
        number=request.number,
        made_at=request.made_at,
        machine=request.machine,
        program=request.program or None,
        wanted=request.wanted,
        evidence=request.evidence,
        check=request.check,
        tried=request.tried,
        sound=request.is_sound,
        asked_back=request.facts_missing,
    )
