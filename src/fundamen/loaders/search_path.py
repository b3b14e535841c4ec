"""Judge each place where a command is looked up on PATH."""

from collections.abc import Iterator

from fundamen.loaders.load_map import Candidate, CandidateOutcome
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import places_on_path


def find_on_path(machine: Machine, name: str) -> Iterator[Candidate]:
    """The entries at each place where a command is looked up; the first that is taken is run."""
    for path, entry in places_on_path(machine, name):
        if entry.kind is EntryKind.BLOCKED:
            yield Candidate(path, CandidateOutcome.BLOCKED, "PATH", entry.why)
        elif entry.kind is not EntryKind.FILE:
            yield Candidate(path, CandidateOutcome.ABSENT, "PATH")
        elif not entry.is_executable:
            yield Candidate(path, CandidateOutcome.BLOCKED, "PATH", "no user may execute it (mode)")
        else:
            yield Candidate(path, CandidateOutcome.TAKEN, "PATH")
