"""Read the managed assemblies that a binder considers, each once."""

import msgspec

from fundamen.formats.managed.cli_header import AssemblyName, Managed, read_managed
from fundamen.formats.windows.pe import Pe
from fundamen.loaders.load_map import Candidate, CandidateOutcome, read_candidate
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_UNHANDLED = "0xE0434352, with the exception"
_EXCEPTIONS = {
    CandidateOutcome.ABSENT: "System.IO.FileNotFoundException (0x80070002)",
    CandidateOutcome.OLDER_VERSION: "System.IO.FileLoadException (0x80131040)",
    CandidateOutcome.OTHER_VERSION: "System.IO.FileLoadException (0x80131040)",
    CandidateOutcome.OTHER_ARCHITECTURE: "System.BadImageFormatException (0x8007000B)",
    CandidateOutcome.REFUSED: "System.BadImageFormatException (0x8007000B)",
    CandidateOutcome.BLOCKED: "System.IO.FileLoadException (0x80070005)",
}


def at_call_of(outcome: CandidateOutcome) -> Message:
    """How a program ends that calls into an assembly which its runtime cannot load. Source: corerror.h, winerror.h."""
    if outcome not in _EXCEPTIONS:
        return UNSAID
    return say("common.status", status=f"{_UNHANDLED} {_EXCEPTIONS[outcome]}")


class AssemblyFile(msgspec.Struct, frozen=True):
    """One file that holds a managed assembly."""

    path: MachinePath
    pe: Pe
    managed: Managed
    name: AssemblyName

    def fits(self, process: Architecture) -> bool:
        """Whether a process of an architecture can load it."""
        return self.managed.is_neutral or self.pe.architecture is process


class AssemblyFiles:
    """The assemblies of one machine."""

    def __init__(self, machine: Machine, process: Architecture) -> None:
        """Begin, for processes of an architecture."""
        self._machine = machine
        self._process = process
        self._read: dict[MachinePath, AssemblyFile | Candidate] = {}

    def try_at(self, path: MachinePath, because: Message) -> AssemblyFile | Candidate:
        """The assembly at a path or, where the runtime cannot take one from there, the candidate with the reason."""
        path = self._machine.real(path)
        if path not in self._read:
            self._read[path] = self._try(path, because)
        found = self._read[path]
        return msgspec.structs.replace(found, because=because) if isinstance(found, Candidate) else found

    def _try(self, path: MachinePath, because: Message) -> AssemblyFile | Candidate:
        entry = self._machine.look(path)
        if entry.kind is not EntryKind.FILE:
            outcome = CandidateOutcome.BLOCKED if entry.kind is EntryKind.BLOCKED else CandidateOutcome.ABSENT
            return Candidate(path, outcome, because, entry.why)
        pe = read_candidate(self._machine, path, because)
        if isinstance(pe, Candidate):
            return pe
        try:
            with self._machine.open(path) as source:
                managed = read_managed(source, pe) if isinstance(pe, Pe) else None
        except UnreadableError as error:
            return Candidate(path, CandidateOutcome.REFUSED, because, error.why)
        if not isinstance(pe, Pe) or managed is None or managed.assembly is None:
            return Candidate(path, CandidateOutcome.REFUSED, because, say("loaders.is-no-managed-assembly"))
        found = AssemblyFile(path, pe, managed, managed.assembly)
        if not found.fits(self._process):
            detail = say("loaders.is-for", architecture=pe.architecture)
            return Candidate(path, CandidateOutcome.OTHER_ARCHITECTURE, because, detail, pe.architecture)
        return found
