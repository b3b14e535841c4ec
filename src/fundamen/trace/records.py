"""The result of a trace."""

import msgspec

from fundamen.loaders.load_map import ACCOUNT, ENVIRONMENT_FILE, WORKING_FOLDER, Candidate
from fundamen.machine.access import Runner
from fundamen.machine.observation import Observation
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Format, Necessity
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict

LOADED = "trace.loaded"  # the code of what was seen of a component that a run has loaded
# Kinds of components.
PRELOAD_LIST = "preload-list"
COMMAND = "command"  # that no installed package has brought
INSTALLED_PACKAGE, INSTALLED_FILE, ALTERNATIVE = "installed-package", "installed-file", "alternative"
DATABASE, BUNDLE_OF_CERTIFICATES = "package-database", "certificate-bundle"
OF_THE_SYSTEM = frozenset({ALTERNATIVE, BUNDLE_OF_CERTIFICATES, DATABASE, PRELOAD_LIST})  # besides packages
_NOUNS = {ACCOUNT: "trace.the-user", WORKING_FOLDER: "trace.the-folder", ENVIRONMENT_FILE: "trace.the-file"}
STRUCTURE = "structure"  # the source of evidence that a file's own form gives


class Evidence(msgspec.Struct, frozen=True):
    """The evidence of a verdict."""

    source: str
    detail: Message


class Component(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that the program depends on, and its state."""

    name: str  # as it is asked for
    kind: str  # "program", or as a Resolution has it
    verdict: Verdict
    reason: Message  # why, in one clause that a technician can read out
    how: Necessity  # REQUIRED where the program cannot start without it
    path: MachinePath | None  # what the loader takes; None where it takes nothing
    wanted_architecture: Architecture
    architecture: Architecture | None  # of the file at path
    version: str | None  # that the file at path says it has
    unoffered: tuple[str, ...]  # functions that are called and that it does not offer; ``#12`` for a number
    needed_by: tuple[MachinePath, ...]
    chain: tuple[MachinePath, ...]  # the shortest way from the program to what needs it, the program first
    evidence: tuple[Evidence, ...]
    searched: tuple[Candidate, ...]
    gives_up_with: Message = (
        UNSAID  # the status with which the program ends where this alone is at fault, if its loader reports one
    )
    sought_as: tuple[str, ...] = ()  # names, perhaps with ``*``, of the file that brings it
    remarks: tuple[Message, ...] = ()  # what else there is to say, which changes no verdict
    asked_by: str = ""  # the file whose code was seen to ask for it as the program ran
    observed: Message = (
        UNSAID  # what was seen of it as the program ran; empty where it was not run, or nothing was seen
    )
    sought_versions: str = ""  # of its package that serve (PEP 440); empty where any may
    remedy: str = ""  # a command that would mend it without any package, where that is certain
    brought_by: tuple[str, ...] = ()  # packages of the operating system's archive that would put it where it is sought

    @property
    def noun(self) -> Message:
        """The kind of thing, for what only a unit names: "the user"; empty where the name says enough."""
        return say(_NOUNS[self.kind]) if self.kind in _NOUNS else UNSAID

    @property
    def full_name(self) -> str:
        """The name as it is asked for, with its noun if it needs one."""
        return f"{self.noun} {self.name}" if self.noun else self.name

    @property
    def is_fault(self) -> bool:
        """Whether it keeps the program from starting."""
        return self.verdict.is_fault and self.how is Necessity.REQUIRED


class Trace(msgspec.Struct, frozen=True):
    """All that a program depends on."""

    program: MachinePath
    format: Format
    architecture: Architecture
    components: tuple[Component, ...]  # the program itself first, then in the loader's order
    observation: Observation | None = None  # of its run, if it was run
    remarks: tuple[Message, ...] = ()  # on the machine as a whole
    not_followed: Message = UNSAID  # what it starts, which only a run could tell, in a clause: nothing is known of that
    run_as: Runner | None = None  # the user whom a unit or a list of jobs names

    @property
    def is_of_a_program(self) -> bool:
        """Whether a program was traced, and not a library by itself."""
        return self.components[0].kind == "program"

    @property
    def is_of_another_machine(self) -> bool:
        """Whether the machine does not run such programs, so that nothing on it could be mended."""
        return self.is_of_a_program and self.components[0].verdict is Verdict.WRONG_ARCHITECTURE

    @property
    def faults(self) -> tuple[Component, ...]:
        """Faults that keep the program from starting, in the order in which the loader would meet them."""
        return tuple(component for component in self.components if component.is_fault)


class LoadedFiles(msgspec.Struct, frozen=True):
    """The faults of a program, and the files that it needs; no more."""

    program: MachinePath
    files: tuple[MachinePath, ...]  # every file that is loaded or taken, the program among them
    faults: tuple[Component, ...]  # in the order in which the loader would meet them
