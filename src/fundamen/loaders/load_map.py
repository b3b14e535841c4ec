"""Record the loading of a program: every need, every candidate, and why each was passed over."""

from enum import StrEnum

import msgspec

from fundamen.machine.access import Runner
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, Necessity
from fundamen.model.errors import DamagedFileError, NotExecutableError, UnreadableError
from fundamen.model.paths import MachinePath

# Kinds of what a script, a unit or a list of jobs names: a program that it starts, and what systemd sets up for it.
STARTED, ACCOUNT, WORKING_FOLDER, ENVIRONMENT_FILE = "started-program", "account", "working-folder", "environment-file"


class CandidateOutcome(StrEnum):
    """Outcomes of a candidate. The words are shown and are part of the JSON contract."""

    TAKEN = "taken"
    ABSENT = "not there"
    OTHER_ARCHITECTURE = "other architecture"
    BLOCKED = "blocked"  # may not be read
    REFUSED = "refused"  # found, and no loadable file: the loader stops here
    OLDER_VERSION = "older version"
    OTHER_VERSION = "other version"
    SWITCHED_OFF = "switched off"  # an optional part of the operating system
    UNTRUSTED = "not trusted"  # the system does not accept its signature
    NOT_SEARCHED = "not searched"  # lies where the loader does not look


class Candidate(msgspec.Struct, frozen=True):
    """One place that the loader considers for a need, in its order."""

    path: MachinePath
    outcome: CandidateOutcome
    because: Message  # which rule of the loader led here
    detail: Message = UNSAID  # what is wrong with it
    architecture: Architecture | None = None  # where it was read


class Resolution(msgspec.Struct, frozen=True):
    """The loader's answer for one need of one file."""

    name: str  # as the needing file spells it
    needed_by: MachinePath
    how: Necessity
    candidates: tuple[Candidate, ...]  # empty where the name was loaded already
    path: MachinePath | None  # None where the loader finds nothing it can load
    kind: str = "shared-library"  # or "loader", "side-by-side-assembly", "framework", "assembly", "configuration"
    provided_by_system: Message = UNSAID  # why the operating system itself provides it, with no file of that name
    decided: Message = UNSAID  # what decided, where it is more than the order of the candidates
    gives_up_with: Message = (
        UNSAID  # the status that a person sees where this alone is at fault; empty for the platform's own
    )
    sought_as: tuple[str, ...] = ()  # names, perhaps with ``*``, of the file that brings it; empty for its own name
    sought_versions: str = ""  # of its package that serve, as PEP 440 writes them; empty where any may
    remedy: str = ""  # a command that would mend it without any package, where that is certain


class Unoffered(msgspec.Struct, frozen=True):
    """Imports of one file that a library does not export."""

    importer: MachinePath
    library: MachinePath
    how: Necessity
    functions: tuple[str, ...]  # names, or ``#12`` for a number
    are_versions: bool = False  # symbol versions are named, not functions
    right_at: MachinePath | None = None  # another copy that offers them all, which is found only later


class LoadMap(msgspec.Struct, frozen=True):
    """All that a loader would do for one program, in the loader's order."""

    program: MachinePath
    binary: Binary
    architecture: Architecture  # of the process that the program is started in
    loaded: dict[MachinePath, Binary]  # every file that would be loaded but the program, by the path it is found at
    resolutions: tuple[Resolution, ...]
    unoffered: tuple[Unoffered, ...] = ()
    runs_here: Message = UNSAID  # what the machine runs, where that does not include this program
    untrusted: Message = UNSAID  # why the system does not start the program, where it does not accept its signature
    switched_off: Message = UNSAID  # why nothing starts it, where the machine is set up so
    remarks: tuple[Message, ...] = ()  # what else there is to say of the program, which changes no verdict
    not_followed: Message = UNSAID  # what it starts and only a run could tell, in a clause
    run_as: Runner | None = None  # the user whom a unit or a list of jobs names; None where none is named

    def joined_with(self, inner: "LoadMap") -> "LoadMap":
        """The same with the needs of another program that it runs, each once."""
        known = {(each.name, each.needed_by) for each in self.resolutions}
        return msgspec.structs.replace(
            self,
            loaded={**self.loaded, inner.program: inner.binary, **inner.loaded},
            resolutions=(*self.resolutions, *(r for r in inner.resolutions if (r.name, r.needed_by) not in known)),
            unoffered=(*self.unoffered, *inner.unoffered),
        )


def find_candidate(machine: Machine, path: MachinePath, because: Message) -> Binary | Candidate:
    """The executable file at a place where a loader looks or, where there is none, the candidate with the reason."""
    entry = machine.look(path)
    match entry.kind:
        case EntryKind.ABSENT:
            return Candidate(path, CandidateOutcome.ABSENT, because)
        case EntryKind.BLOCKED:
            return Candidate(path, CandidateOutcome.BLOCKED, because, entry.why)
        case EntryKind.FILE:
            return read_candidate(machine, path, because)
    return Candidate(path, CandidateOutcome.REFUSED, because, say("loaders.is-no-file-but-a", kind=entry.kind))


def read_candidate(machine: Machine, path: MachinePath, because: Message) -> Binary | Candidate:
    """The executable file at a candidate's path or, where it cannot be read as one, the candidate with the reason."""
    try:
        return machine.binary(path)
    except (DamagedFileError, NotExecutableError) as error:
        return Candidate(path, CandidateOutcome.REFUSED, because, error.why)
    except UnreadableError as error:
        return Candidate(path, CandidateOutcome.BLOCKED, because, error.why)
