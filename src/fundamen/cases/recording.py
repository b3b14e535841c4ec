"""Record a run in the open case: its words without secrets, its status, its findings."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

import msgspec

from fundamen.cases.secrets import command_without_secrets
from fundamen.cases.store import CaseFacts, CaseStore, EntryType, FaultFact
from fundamen.clues.advice import means_of
from fundamen.clues.behind import Behind
from fundamen.clues.mentions import MentionKind as Named
from fundamen.clues.reading import Reading
from fundamen.model.secrets import without_secrets
from fundamen.trace.records import Trace

LEFT_OUT = frozenset({"case", "handoff", "demo"})  # commands that are about cases, or play their own story


def record(store: CaseStore, words: Sequence[str], found: Mapping[str, Any], status: int, now: datetime) -> None:
    """Record one run.

    Args:
        store: where the case is.
        words: of the command, without our own name.
        found: what the run has found out: "answer", its first words; "trace"; "reading" and "behind" of a text.
        status: with which it ended.
        now: this moment.

    Raises:
        UnreadableError: the cases cannot be read.
    """
    case = store.current()
    if case is None or not words or words[0] in LEFT_OUT:
        return
    facts = CaseFacts(status=status, answer=found.get("answer", ""))
    if isinstance(reading := found.get("reading"), Reading):
        facts = _of_reading(facts, reading, found.get("behind"))
    elif isinstance(trace := found.get("trace"), Trace):
        facts = msgspec.structs.replace(
            facts, program=trace.program, faults=_faults_of(trace), is_sound=not trace.faults
        )
    safe = {
        name: without_secrets(value)
        for name in facts.__struct_fields__
        if isinstance(value := getattr(facts, name), str)
    }
    text = command_without_secrets(["fundamen", *words])
    store.add(case, EntryType.COMMAND, text, msgspec.structs.replace(facts, **safe), now)


def _of_reading(facts: CaseFacts, reading: Reading, behind: Behind | None) -> CaseFacts:
    """Facts of a text for a case: the line, its subject, the names in it, and the trace behind it."""
    decisive = reading.decisive
    if decisive is None:
        return facts
    traces = behind.traces if behind is not None else ()
    named = {mention.kind: mention.text for mention in reversed(reading.mentions)}
    return msgspec.structs.replace(
        facts,
        about=decisive.entry.about if decisive.entry is not None else "",
        says=f"{reading.name}:{decisive.line}: {decisive.text}",
        means=means_of(decisive),
        program=traces[0].program if traces else decisive.holes.get("program", named.get(Named.PROGRAM, "")),
        component=decisive.holes.get("component", decisive.holes.get("package", "")),
        path=behind.signed[0].path if behind is not None and behind.signed else decisive.holes.get("path", ""),
        target=decisive.holes.get("target", named.get(Named.TARGET, "")),
        log=reading.name if reading.is_of_a_file else "",
        host=decisive.holes.get("host", named.get(Named.HOST, "")),
        faults=_faults_of(traces[0]) if traces else (),
    )


def _faults_of(trace: Trace) -> tuple[FaultFact, ...]:
    return tuple(
        FaultFact(
            name=fault.name,
            verdict=fault.verdict,
            reason=fault.reason,
            architecture=str(fault.wanted_architecture),
            versions=fault.sought_versions,
            package=next(iter(fault.brought_by), ""),
            place=fault.path or next((each.path for each in fault.searched), ""),
        )
        for fault in trace.faults
    )
