"""What every program and library of a machine lacks, grouped by the cause."""

from collections.abc import Callable, Iterator, Sequence

import msgspec

from fundamen.evidence.authority import Authority
from fundamen.loaders.load_map import Outcome
from fundamen.machine.machine import Machine
from fundamen.model.binary import Kind
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.survey.walking import Walked
from fundamen.trace.records import Component, Trace
from fundamen.trace.trace import trace_programs


class Cause(msgspec.Struct, frozen=True):
    """One component that is at fault, and whom it stops."""

    component: Component
    programs: tuple[MachinePath, ...]  # that cannot start for it, in their order
    libraries: tuple[MachinePath, ...]  # that nothing was found to load, and that lack it

    @property
    def title(self) -> str:
        """The component as people say it: its path where the loader takes one, else its name."""
        return self.component.path or self.component.name


class Needs(msgspec.Struct, frozen=True):
    """What came of resolving every need."""

    programs: int  # that were traced
    libraries: int  # by themselves, for nothing was found to load them
    scripts: int
    causes: tuple[Cause, ...]  # those that stop most programs first
    unreadable: tuple[tuple[MachinePath, str], ...]  # what could not be traced, and why
    loaded: frozenset[MachinePath]  # every file that something stands on
    given: tuple[tuple[MachinePath, str], ...]  # libraries that get something from whoever loads them: which


Done = Callable[[int], None]  # called with how many more are traced


def resolve_all(
    machine: Machine, walked: Walked, authorities: Sequence[Authority] = (), done: Done = lambda _count: None
) -> Needs:
    """Trace every program, then every library that no program loads, then one script of each first line."""
    gathering = _Gathering(machine)
    programs, libraries = _parted(machine, walked.executables)
    gathering.take(trace_programs(machine, programs, authorities), programs, done)
    alone = [path for path in libraries if machine.real(path) not in gathering.loaded]
    done(len(libraries) - len(alone))
    gathering.take(trace_programs(machine, alone, authorities), alone, done, by_itself=True)
    firsts = [paths[0] for paths in walked.scripts.values()]
    others = {paths[0]: paths[1:] for paths in walked.scripts.values()}
    gathering.take(trace_programs(machine, firsts, authorities), firsts, done, others=others)
    return Needs(
        programs=len(programs),
        libraries=len(alone),
        scripts=sum(map(len, walked.scripts.values())),
        causes=gathering.causes(walked.executables),
        unreadable=tuple(gathering.unreadable),
        loaded=frozenset(gathering.loaded),
        given=tuple(gathering.given),
    )


def _parted(machine: Machine, executables: Sequence[MachinePath]) -> tuple[list[MachinePath], list[MachinePath]]:
    """(programs, libraries); what cannot be read is with the programs, so that a trace says why."""
    programs: list[MachinePath] = []
    libraries: list[MachinePath] = []
    for path in executables:
        try:
            # Some libraries can be run as programs too: it counts what their mode says.
            is_program = machine.binary(path).kind is Kind.PROGRAM
            is_library = not is_program or (".so" in path and not machine.look(path).is_executable)
        except UnreadableError:
            is_library = False
        machine.forget(path)
        (libraries if is_library else programs).append(path)
    return programs, libraries


class _Found(msgspec.Struct):
    component: Component
    programs: list[MachinePath]
    libraries: list[MachinePath]


class _Gathering:
    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._found: dict[tuple[str, str, str], _Found] = {}
        self.loaded: set[MachinePath] = set()
        self.unreadable: list[tuple[MachinePath, str]] = []
        self.given: list[tuple[MachinePath, str]] = []

    def take(
        self,
        traces: Iterator[Trace | UnreadableError],
        paths: Sequence[MachinePath],
        done: Done,
        *,
        by_itself: bool = False,
        others: dict[MachinePath, tuple[MachinePath, ...]] | None = None,
    ) -> None:
        """Take traces in, each of the path in its place; ``others`` fare as one of the paths does."""
        for path, trace in zip(paths, traces, strict=True):
            done(1)
            if isinstance(trace, UnreadableError):
                self.unreadable.append((path, trace.why))
                continue
            alike = (path, *(others or {}).get(path, ()))
            self.loaded.update(self._machine.real(c.path) for c in trace.components if c.path is not None)
            for fault in trace.faults:
                if by_itself and fault.verdict is Verdict.BLOCKED and fault.path == path:
                    continue  # nobody runs a library
                culprit = self._culprit(fault)
                key = (self._machine.folded(culprit), str(fault.verdict), str(fault.wanted_architecture))
                found = self._found.setdefault(key, _Found(fault, [], []))
                if by_itself and found.programs and culprit == self._machine.real(path):
                    continue  # it is the cause that was told already
                (found.libraries if by_itself else found.programs).extend(alike)

    def _culprit(self, fault: Component) -> str:
        """The file that is at fault, by whatever name it was reached; the name where there is none."""
        refused = (each.path for each in fault.searched if each.outcome is Outcome.REFUSED)
        path = fault.path or next(refused, None)
        return fault.name if path is None else self._machine.real(path)

    def causes(self, executables: Sequence[MachinePath]) -> tuple[Cause, ...]:
        """All causes; of libraries by themselves only what no file that was surveyed could be."""
        basename = self._machine.paths.basename
        lying: dict[str, list[MachinePath]] = {}
        for path in executables:
            lying.setdefault(self._machine.folded(basename(path)), []).append(path)
        causes = []
        for found in self._found.values():
            if not found.programs and self._lies_somewhere(found.component, lying):
                self.given += [(path, found.component.name) for path in found.libraries]
                continue
            causes.append(Cause(found.component, tuple(found.programs), tuple(found.libraries)))
        return tuple(sorted(causes, key=lambda cause: (-len(cause.programs), -len(cause.libraries), cause.title)))

    def _lies_somewhere(self, component: Component, lying: dict[str, list[MachinePath]]) -> bool:
        """Whether a file that could be a missing component was surveyed: then whoever loads the library may have it."""
        if component.verdict not in {Verdict.MISSING, Verdict.WRONG_ARCHITECTURE}:
            return False
        for path in lying.get(self._machine.folded(self._machine.paths.basename(component.name)), ()):
            try:
                if self._machine.binary(path).architecture.serves(component.wanted_architecture):
                    return True
            except UnreadableError:
                continue
        return False
