"""Judge each place where a command is looked up on PATH."""

from collections.abc import Iterator

from fundamen.loaders.load_map import Candidate, CandidateOutcome, find_candidate
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import places_on_path
from fundamen.messages import Message, say
from fundamen.model.binary import Format
from fundamen.model.paths import MachinePath


def judge_runnable(machine: Machine, path: MachinePath, because: Message) -> Candidate:
    """A place from which something is to be run: taken where a program or script is there that a user may execute."""
    entry = machine.look(path)
    if entry.kind is EntryKind.FILE and not entry.is_executable:
        return Candidate(path, CandidateOutcome.BLOCKED, because, say("loaders.no-user-may-execute-it-mode"))
    found = find_candidate(machine, path, because)
    if isinstance(found, Candidate):
        return found
    outcome = CandidateOutcome.REFUSED if found.format is Format.JAVA else CandidateOutcome.TAKEN
    return Candidate(path, outcome, because, architecture=found.architecture)


def find_on_path(machine: Machine, name: str) -> Iterator[Candidate]:
    """The entries at each place where a command is looked up; the first that is taken is run."""
    for path, entry in places_on_path(machine, name):
        if entry.kind is EntryKind.BLOCKED:
            yield Candidate(path, CandidateOutcome.BLOCKED, say("loaders.path"), entry.why)
        elif entry.kind is not EntryKind.FILE:
            yield Candidate(path, CandidateOutcome.ABSENT, say("loaders.path"))
        elif not entry.is_executable:
            yield Candidate(
                path, CandidateOutcome.BLOCKED, say("loaders.path"), say("loaders.no-user-may-execute-it-mode")
            )
        else:
            yield Candidate(path, CandidateOutcome.TAKEN, say("loaders.path"))
