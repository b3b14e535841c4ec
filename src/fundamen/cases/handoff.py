"""The request to the person who has the rights: what is needed, why, the evidence, how to check it, what was tried."""

import shlex
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from enum import StrEnum

import msgspec

from fundamen.cases.ladder import facts_of
from fundamen.cases.store import Case, EntryType, FaultFact
from fundamen.messages import UNSAID, Message, say

_MOST_EVIDENCE, _MOST_CHECKED = 6, 8
_SAID = {
    "missing": "is missing",
    "wrong-architecture": "is there for another architecture",
    "corrupt": "is damaged",
    "outdated": "is there in a version that does not serve",
    "untrusted": "is not trusted",
    "shadowed": "is hidden by another file of its name",
    "blocked": "may not be read or is withheld",
}
_OF_PROGRAMS = frozenset({*_SAID, "failed", "ended"})  # what is about them is asked for with a program
_ASKED = {
    "full": "Room on the disk, or a higher limit, for the program named below.",
    "setting": "The setting that the evidence names, with a value that serves.",
    "unreachable": "The service or way that the evidence names, up and open from this machine.",
    "untrusted": "The certificate that the evidence names, in the machine's own store.",
    "blocked": "The right that the evidence names, for the account that runs the program.",
    "conflict": "A decision which of the two that exclude each other stays.",
}


class To(StrEnum):
    """To whom a request goes."""

    PROVIDER = "provider"  # who runs the host or the service
    ADMINISTRATOR = "administrator"  # who has the rights on this machine
    PUBLISHER = "publisher"  # who has made the program
    TECHNICIAN = "technician"  # who continues the case


_WITH_FUNDAMEN = frozenset({To.ADMINISTRATOR, To.TECHNICIAN})  # the others have it not, and need not know it


class RequestedThing(msgspec.Struct, frozen=True):
    """One thing that is asked for."""

    what: str
    why: str
    command: str  # where one is known; empty otherwise


class RequestEvidence(msgspec.Struct, frozen=True):
    """Something that was seen."""

    at: datetime
    source: str  # the command, or "noted"
    text: str


class Attempt(msgspec.Struct, frozen=True):
    """Something that was tried."""

    at: datetime
    what: str
    outcome: str = msgspec.field(name="came")


class Handoff(msgspec.Struct, frozen=True, kw_only=True):
    """A request that needs no question back."""

    to: To
    case: str  # the title
    number: int
    made_at: datetime
    machine: str
    program: str
    wanted: tuple[RequestedThing, ...]
    evidence: tuple[RequestEvidence, ...]
    check: tuple[str, ...]  # how to see that it is done
    tried: tuple[Attempt, ...]
    is_sound: bool  # the latest trace has found nothing at fault: nothing is needed any more
    facts_missing: tuple[str, ...]  # what its reader could ask back, and is not known


def compose(case: Case, to: To, now: datetime) -> Handoff:
    """The request that follows from a case."""
    facts = facts_of(case)
    program = facts.get("program", "")
    faults = _latest_faults(case) or ()
    is_sound = _latest_faults(case) == ()
    wanted = tuple(_requested_thing(fault, program, to) for fault in faults)
    if not wanted and not is_sound:
        wanted = tuple(_wanted_by_symptom(facts))
    missing = []
    if not program and facts.get("about", "missing") in _OF_PROGRAMS and not wanted:
        missing.append(say("cases.which-program-fails-trace-it-fundamen"))
    if not wanted and not is_sound:
        missing.append(say("cases.what-is-needed-give-the-message"))
    return Handoff(
        to=to,
        case=case.title,
        number=case.number,
        made_at=now,
        machine=case.machine,
        program=program,
        wanted=wanted,
        evidence=tuple(_evidence(case))[-_MOST_EVIDENCE:],
        check=tuple(_checks(program, facts) if to in _WITH_FUNDAMEN else _outsiders_checks(faults)),
        tried=tuple(_attempts(case)),
        is_sound=is_sound,
        facts_missing=tuple(missing),
    )


def redact(request: Handoff, blot: Callable[[str], str]) -> Handoff:
    """The same request with every text of it blotted."""
    return msgspec.structs.replace(
        request,
        case=blot(request.case),
        machine=blot(request.machine),
        program=blot(request.program),
        wanted=tuple(RequestedThing(blot(each.what), blot(each.why), blot(each.command)) for each in request.wanted),
        evidence=tuple(RequestEvidence(each.at, blot(each.source), blot(each.text)) for each in request.evidence),
        check=tuple(map(blot, request.check)),
        tried=tuple(Attempt(each.at, blot(each.what), blot(each.outcome)) for each in request.tried),
    )


def _latest_faults(case: Case) -> tuple[FaultFact, ...] | None:
    """The faults of the latest trace in the case; None where nothing was traced."""
    for entry in reversed(case.entries):
        if entry.facts.is_sound:
            return ()
        if entry.facts.faults:
            return entry.facts.faults
    return None


def _requested_thing(fault: FaultFact, program: str, to: To) -> RequestedThing:
    parts = [fault.name]
    if fault.package:
        parts.append(say("cases.of-the-package", package=fault.package))
    if fault.versions:
        parts.append(say("cases.in-a-version", versions=fault.versions))
    if fault.architecture:
        parts.append(say("cases.for", architecture=fault.architecture))
    if to not in _WITH_FUNDAMEN and fault.place:
        parts.append(say("cases.at", place=fault.place))
    command = say("cases.apt-install", package=fault.package) if fault.package else ""
    if not command and program and to in _WITH_FUNDAMEN:
        command = say("cases.fundamen-restore", program=shlex.quote(program))
    return RequestedThing(" ".join(parts), f"It {_SAID.get(fault.verdict, fault.verdict)}: {fault.reason}.", command)


def _wanted_by_symptom(facts: dict[str, str]) -> Iterator[RequestedThing]:
    """Requests where no program was traced: from what the message names, or from its subject."""
    about, means = facts.get("about", ""), facts.get("means", say("cases.see-the-evidence"))
    named = facts.get("component") or facts.get("package") or facts.get("path")
    if about in _SAID and named:
        yield RequestedThing(named, say("cases.it-by-the-message", said=_SAID[about], means=means), "")
    elif about:
        yield RequestedThing(_ASKED.get(about, say("cases.a-repair-of-the-fault-that")), means, "")


def _evidence(case: Case) -> Iterator[RequestEvidence]:
    for entry in case.entries:
        if entry.kind is EntryType.NOTE:
            yield RequestEvidence(entry.at, "noted", entry.text)
        elif entry.kind is EntryType.COMMAND and entry.facts.says:
            yield RequestEvidence(entry.at, entry.text, entry.facts.says)
        elif entry.kind is EntryType.COMMAND and entry.facts.faults:
            listed = "; ".join(f"{f.name} {_SAID.get(f.verdict, f.verdict)}: {f.reason}" for f in entry.facts.faults)
            yield RequestEvidence(entry.at, entry.text, listed)


def _checks(program: str, facts: dict[str, str]) -> Iterator[Message]:
    if program:
        yield say("cases.fundamen-trace", program=shlex.quote(program))
    if "host" in facts:
        yield say("cases.fundamen-inspect-server", host=shlex.quote(facts["host"]))
    yield say("cases.start-the-program-the-message-does")


def _outsiders_checks(faults: Sequence[FaultFact]) -> Iterator[Message]:
    """Checks for a reader who does not have Fundamen."""
    for fault in faults[:_MOST_CHECKED]:
        if fault.place:
            kind = say("cases.and-is-for", architecture=fault.architecture) if fault.architecture else UNSAID
            yield say("cases.is-there", place=fault.place, kind=kind)
    yield say("cases.start-the-program-the-message-does")


def _attempts(case: Case) -> Iterator[Attempt]:
    for entry in case.entries:
        if entry.facts.outcome is not None:
            yield Attempt(entry.at, entry.text, str(entry.facts.outcome))
