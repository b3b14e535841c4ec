"""Remark on PATH where a program was named by its bare name: other hits, and faults of its entries.

Source: POSIX, XBD 8.3 ("PATH"): an empty entry stands for the current folder.
"""

from collections.abc import Iterator

import msgspec

from fundamen.loaders.load_map import CandidateOutcome
from fundamen.loaders.search_path import find_on_path
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import path_folders
from fundamen.messages import UNSAID, Message, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trace.records import Trace

_MOST_OTHERS = 5
_MERGED = {"/bin", "/sbin"}  # which lead into /usr on most systems of today, and are on every PATH for the others


def with_path_remarks(machine: Machine, trace: Trace, name: str) -> Trace:
    """The trace of a program that PATH has found, with what is to be remarked on PATH."""
    program, *others = trace.components
    remarks = (*program.remarks, *_others(machine, trace.program, name))
    components = (msgspec.structs.replace(program, remarks=remarks), *others)
    return msgspec.structs.replace(trace, components=components, remarks=(*trace.remarks, *_entries(machine)))


def _others(machine: Machine, program: MachinePath, name: str) -> Iterator[Message]:
    """Other programs of the name, which PATH leads to only later."""
    seen = {machine.real(program)}
    for candidate in find_on_path(machine, name):
        real = machine.real(candidate.path)
        if candidate.outcome is CandidateOutcome.BLOCKED:
            yield say("trace.is-passed-over", path=candidate.path, detail=candidate.detail)
        elif candidate.outcome is CandidateOutcome.TAKEN and real not in seen and len(seen) <= _MOST_OTHERS:
            seen.add(real)
            yield say(
                "trace.another-one-lies-at-behind-it",
                of_architecture=_for(machine, candidate.path),
                path=candidate.path,
            )


def _for(machine: Machine, path: MachinePath) -> Message:
    try:
        return say("trace.for", architecture=machine.binary(path).architecture)
    except UnreadableError:
        return say("trace.which-is-no-program-that-can")


def _entries(machine: Machine) -> Iterator[Message]:
    """Entries that lead nowhere, are there twice, or stand for whatever folder someone is in."""
    seen: dict[MachinePath, str] = {}
    for entry in path_folders(machine):
        if not machine.paths.isabs(entry):
            yield say("trace.path-has-the-entry-which-means", entry=entry)
            continue
        real = machine.real(MachinePath(entry.rstrip("/") or "/"))
        kind = machine.look(MachinePath(entry)).kind
        if kind is not EntryKind.FOLDER:
            yield say(
                "trace.path-has-which-is", entry=entry, more="not there" if kind is EntryKind.ABSENT else f"a {kind}"
            )
        elif real in seen and entry not in _MERGED:
            same = UNSAID if seen[real] == entry else say("trace.which-is-the-same-folder-as", seen=seen[real])
            yield say("trace.path-has", entry=entry, more="twice" if not same else "too", same=same)
        seen.setdefault(real, entry)
