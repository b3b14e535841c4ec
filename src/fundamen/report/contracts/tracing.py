"""The contract of ``trace --json``."""

from collections.abc import Sequence
from typing import Literal

import msgspec

from fundamen.loaders.load_map import Candidate
from fundamen.messages import Message
from fundamen.report.contracts.line import Failure
from fundamen.trace.records import Component, Trace
from fundamen.trace.symptom import symptom_of


class EvidencePart(msgspec.Struct, frozen=True, rename={"source": "from"}):
    """Who says what about a file."""

    source: str
    detail: Message


class CandidatePart(msgspec.Struct, frozen=True):
    """One place that the loader considered."""

    path: str
    outcome: str
    because: Message
    detail: Message | None


class ComponentPart(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that a program depends on."""

    name: str
    kind: str
    verdict: str
    reason: Message
    how: Literal["required", "delayed", "optional"]
    fault: bool
    symptom: Message | None  # the status with which the loader gives the program up, where it is a fault
    path: str | None
    architecture: str | None
    version: str | None
    unoffered: tuple[str, ...]  # functions that are called and that it does not offer
    remarks: tuple[Message, ...]  # what else there is to say, which changes no verdict
    brought_by: tuple[str, ...]  # packages of the operating system's archive that would bring it
    observed: Message | None  # what was seen of it as the program ran
    asked_by: str | None  # the file whose code was seen to ask for it
    needed_by: tuple[str, ...]
    evidence: tuple[EvidencePart, ...]
    searched: tuple[CandidatePart, ...]


class ProgramPart(msgspec.Struct, frozen=True):
    """The program that was traced."""

    path: str
    format: str
    architecture: str


class ObservationPart(msgspec.Struct, frozen=True):
    """A run of the program, for ``--observe``."""

    by: str
    status: int | None  # the exit status's lowest byte; null where it was stopped
    seconds: float
    failed: tuple[str, ...]  # names that were asked for in vain
    as_before: bool  # whether the prefix's registry is byte for byte what it was


class TraceRecord(msgspec.Struct, frozen=True, kw_only=True):
    """One program, for ``trace --json``."""

    schema: Literal["fundamen.trace/3"] = "fundamen.trace/3"
    path: str  # as it was asked for
    program: ProgramPart | None = None
    components: tuple[ComponentPart, ...] = ()
    faults: int = 0
    remarks: tuple[Message, ...] = ()  # on the machine as a whole
    observation: ObservationPart | None = None
    not_followed: Message | None = None  # what it starts and only a run could tell
    next: Message | None = None
    error: Failure | None = None


def trace_record(asked_for: str, trace: Trace, next_step: Message) -> TraceRecord:
    """The contract's form of a trace."""
    return TraceRecord(
        path=asked_for,
        program=ProgramPart(trace.program, trace.format, trace.architecture),
        components=tuple(_component(trace, component) for component in trace.components),
        faults=len(trace.faults),
        remarks=trace.remarks,
        observation=_observation(trace),
        not_followed=trace.not_followed,
        next=next_step,
    )


def _observation(trace: Trace) -> ObservationPart | None:
    seen = trace.observation
    if seen is None:
        return None
    return ObservationPart(
        seen.by, seen.status, seen.seconds, tuple(name for name, _ in seen.failed), seen.is_as_before
    )


def candidate_parts(candidates: Sequence[Candidate]) -> tuple[CandidatePart, ...]:
    """The contract's form of the places that were considered."""
    return tuple(CandidatePart(c.path, c.outcome, c.because, c.detail) for c in candidates)


def _component(trace: Trace, component: Component) -> ComponentPart:
    return ComponentPart(
        name=str(component.name),
        kind=component.kind,
        verdict=component.verdict,
        reason=component.reason,
        how=component.how.value,
        fault=component.is_fault,
        symptom=symptom_of(trace.format, component),
        path=component.path,
        architecture=component.architecture,
        version=component.version,
        unoffered=component.unoffered,
        remarks=component.remarks,
        brought_by=component.brought_by,
        observed=component.observed or None,
        asked_by=component.asked_by or None,
        needed_by=component.needed_by,
        evidence=tuple(EvidencePart(e.source, e.detail) for e in component.evidence),
        searched=candidate_parts(component.searched),
    )
