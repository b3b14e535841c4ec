"""Remark on PATH where a program was named by its bare name: other hits, and faults of its entries.

Source: POSIX, XBD 8.3 ("PATH"): an empty entry stands for the current folder.
"""

from collections.abc import Iterator

import msgspec

from fundamen.loaders.load_map import CandidateOutcome
from fundamen.loaders.search_path import find_on_path
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import path_folders
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trace.records import Trace

_MOST_OTHERS = 5
_MERGED = {"/bin", "/sbin"}  # which lead into /usr on most systems of today, and stand on every PATH for the others


def with_path_remarks(machine: Machine, trace: Trace, name: str) -> Trace:
    """The trace of a program that PATH has found, with what is to be remarked on PATH."""
    program, *others = trace.components
    remarks = (*program.remarks, *_others(machine, trace.program, name))
    components = (msgspec.structs.replace(program, remarks=remarks), *others)
    return msgspec.structs.replace(trace, components=components, remarks=(*trace.remarks, *_entries(machine)))


def _others(machine: Machine, program: MachinePath, name: str) -> Iterator[str]:
    """Other programs of the name, which PATH leads to only later."""
    seen = {machine.real(program)}
    for candidate in find_on_path(machine, name):
        real = machine.real(candidate.path)
        if candidate.outcome is CandidateOutcome.BLOCKED:
            yield f"{candidate.path} is passed over: {candidate.detail}"
        elif candidate.outcome is CandidateOutcome.TAKEN and real not in seen and len(seen) <= _MOST_OTHERS:
            seen.add(real)
            yield f"another one{_for(machine, candidate.path)} lies at {candidate.path}, behind it on PATH"


def _for(machine: Machine, path: MachinePath) -> str:
    try:
        return f" for {machine.binary(path).architecture}"
    except UnreadableError:
        return ", which is no program that can be read,"


def _entries(machine: Machine) -> Iterator[str]:
    """Entries that lead nowhere, stand there twice, or stand for whatever folder somebody is in."""
    seen: dict[MachinePath, str] = {}
    for entry in path_folders(machine):
        if not machine.paths.isabs(entry):
            yield f"PATH has the entry {entry!r}, which means another folder in each working folder"
            continue
        real = machine.real(MachinePath(entry.rstrip("/") or "/"))
        kind = machine.look(MachinePath(entry)).kind
        if kind is not EntryKind.FOLDER:
            yield f"PATH has {entry}, which is {'not there' if kind is EntryKind.ABSENT else f'a {kind}'}"
        elif real in seen and entry not in _MERGED:
            same = "" if seen[real] == entry else f", which is the same folder as {seen[real]}"
            yield f"PATH has {entry} {'twice' if not same else 'too'}{same}"
        seen.setdefault(real, entry)
