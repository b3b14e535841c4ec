"""Rehearse a plan: lay it over the machine and trace the program again."""

import logging
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec

from fundamen.changes.base import Step, Work
from fundamen.changes.packages import installation_of
from fundamen.changes.rights import ChangeRights
from fundamen.evidence.authority import Authority
from fundamen.machine.access import ORDINARY, find_barrier
from fundamen.machine.machine import Machine
from fundamen.machine.overlay import Layer, OverlayMachine
from fundamen.messages import say
from fundamen.model.package import Package, PackageFile
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.timing import log_time
from fundamen.restore.harms import Harm, find_harms
from fundamen.restore.on_demand import OnDemand, asked_for, asked_of
from fundamen.restore.own_remedies import KeepBytes, find_own_remedies
from fundamen.restore.package_rights import find_lost_rights
from fundamen.restore.plan import (
    Pin,
    Plan,
    Unmet,
    by_place,
    plan_restoration,
    with_found_places,
    with_rights,
    with_set_aside,
)
from fundamen.restore.restoration import Prepared, Traces
from fundamen.sources.catalogue import Catalogue, ListedCatalogue, Source
from fundamen.sources.os_archive import NewPackages
from fundamen.trace.bringing import with_bringers
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_all

_LOG = logging.getLogger(__name__)

Fetch = Callable[[Source, PackageFile], HostPath]

_MOST_ROUNDS = 20  # each round uncovers what the libraries of the round before need


class Scope(msgspec.Struct, frozen=True):
    """The wider scope of a repair."""

    further: Sequence[MachinePath] = ()  # programs that are repaired as well
    others: Sequence[MachinePath] = ()  # programs that must not lose anything by it
    pins: Sequence[Pin] = ()
    because: str = ""  # the reason for these versions, which is written down
    follows: bool = True  # whether what scripts start is repaired with them; a survey finds it by itself
    keep: KeepBytes | None = None  # our own copies, for what is changed in place; None where nothing is


class Rehearsal(msgspec.Struct, frozen=True):
    """A plan with what it would come to."""

    before: Traces  # of the program, then of the further ones
    plan: Plan
    after: Traces
    contents: dict[str, HostPath]  # SHA-256 -> our own verified copy of the bytes
    harmed: tuple[Harm, ...] = ()  # programs that would lack something which they have now
    because: str = ""
    follows: bool = True

    @property
    def is_needed(self) -> bool:
        """Whether there is anything that calls for a restoration: a fault, or versions that were asked for."""
        return self.before.fault_count > 0 or not self.plan.is_empty or bool(self.plan.unmet)

    @property
    def work(self) -> Work:
        """The work to be performed."""
        steps = self.plan.all_steps
        titles = [title for step in steps for title in step.installs]
        titles += [
            say("restore.from-title-name", title=package.title, name=source.name)
            for source, package in self.plan.packages
        ]
        further = tuple(trace.program for trace in self.before.traces[1:])
        return Work(self.plan.program, tuple(titles), steps, self.contents, further=further, because=self.because)

    def prepare(self, authorities: Sequence[Authority]) -> Prepared[Traces]:
        """It as it is performed, and proven by tracing all its programs again."""
        programs, follows = [trace.program for trace in self.before.traces], self.follows

        def prove(machine: Machine) -> Traces:
            return Traces(tuple(trace_all(machine, programs, authorities, follows=follows)))

        return Prepared(
            work=self.work,
            before=self.before,
            rehearsed=self.after,
            prove=prove,
            harmed=self.harmed,
            unmet=self.plan.unmet,
            lacks_remedy=self.is_needed and self.plan.is_empty,
        )


def rehearse(
    machine: Machine,
    program: MachinePath,
    catalogues: Sequence[Catalogue],
    authorities: Sequence[Authority],
    fetch: Fetch,
    on_demand: Sequence[OnDemand] = (),
    new: NewPackages | None = None,
    scope: Scope | None = None,
) -> Rehearsal:
    """Trace a program, plan for its faults, and trace it again as it would be; nothing on the machine is changed.

    A library that was missing may itself need what is missing too. Such faults show only once it is in place, so the
    plan is laid over the machine and grown until nothing more can be mended.

    Args:
        machine: as it is.
        program: what is to be repaired.
        catalogues: of the trusted sources.
        authorities: who vouches for bytes.
        fetch: brings a file of a source in.
        on_demand: what else is asked, such as the operating system's archive.
        new: what the operating system's package manager is to install.
        scope: what is asked besides.

    Raises:
        UntrustedError: a file of a source is not what was signed.
        UnreadableError: a program or a source cannot be read.
    """
    scope = scope or Scope()
    return _Rehearsing(machine, (program, *scope.further), catalogues, authorities, fetch, on_demand, new, scope).run()


class _Rehearsing:
    def __init__(
        self,
        machine: Machine,
        programs: Sequence[MachinePath],
        catalogues: Sequence[Catalogue],
        authorities: Sequence[Authority],
        fetch: Fetch,
        on_demand: Sequence[OnDemand],
        new: NewPackages | None,
        scope: Scope,
    ) -> None:
        self._machine, self._programs, self._catalogues = machine, programs, catalogues
        self._authorities, self._fetch, self._on_demand = authorities, fetch, on_demand
        self._new, self._scope = new, scope
        self._contents: dict[str, HostPath] = {}

    def run(self) -> Rehearsal:
        before = after = self._trace_programs(self._machine)
        installs = installation_of(self._new, "not installed") if self._new is not None else None
        overlay = self._laid_over((installs,) if installs is not None else ())
        if installs is not None:
            after = self._trace_programs(overlay)
        plan = plan_restoration(self._machine, after, self._known_catalogues(after), self._scope.pins)
        plan = with_rights(self._machine, overlay, msgspec.structs.replace(plan, installs=installs), after)
        if plan.is_empty and not any(trace.faults for trace in before):
            plan = msgspec.structs.replace(plan, steps=tuple(self._find_lost_rights()))
        for number in range(1, _MOST_ROUNDS + 1):
            with log_time(_LOG, "rehearsal %d, of %d steps", number, len(plan.steps)):
                overlay = self._laid_over(plan.all_steps)
                after = self._trace_programs(overlay)
            grown = self._grow_plan(overlay, plan, after)
            if grown.steps == plan.steps:
                break
            plan = grown
        is_for_faults = any(trace.faults for trace in before) and not self._scope.pins
        if not plan.is_empty and is_for_faults and not _cured_faults(before, after):
            faults = dict.fromkeys(fault.name for trace in before for fault in trace.faults)
            useless = tuple(Unmet(name, say("restore.what-the-sources-have-for-it")) for name in faults)
            plan = msgspec.structs.replace(plan, packages=(), steps=(), unmet=useless, installs=None)
            after = before
        plan = msgspec.structs.replace(plan, unmet=_still_unmet(plan, before, after))
        others = (*self._scope.others, *(self._programs if self._scope.pins else ()))
        harmed = tuple(find_harms(self._machine, overlay, others, self._authorities)) if not plan.is_empty else ()
        _LOG.debug("%d programs would lack something", len(harmed))
        explained = [with_bringers(self._machine, trace) for trace in after]
        return Rehearsal(
            before=Traces(tuple(before)),
            plan=plan,
            after=Traces(tuple(explained)),
            contents=self._contents,
            harmed=harmed,
            because=self._scope.because,
            follows=self._scope.follows,
        )

    def _trace_programs(self, machine: Machine) -> list[Trace]:
        return trace_all(machine, self._programs, self._authorities, follows=self._scope.follows)

    def _find_lost_rights(self) -> Iterator[ChangeRights]:
        """The rights of their packages that programs which lack nothing have lost."""
        user = self._machine.run_as or ORDINARY
        for program in self._programs:
            barrier = find_barrier(self._machine, program, user)
            above = [barrier.path] if barrier is not None and barrier.is_folder else []
            for path in (program, *above):
                catalogues = asked_of(self._on_demand, self._machine.paths.basename(path), self._machine.real(path))
                yield from find_lost_rights(self._machine, path, catalogues)

    def _known_catalogues(self, traces: Sequence[Trace]) -> tuple[Catalogue, ...]:
        """The catalogues, and what else has packages for the faults."""
        return (
            *self._catalogues,
            *_merge_catalogues(asked_for(self._on_demand, traces)),
        )

    def _laid_over(self, steps: Iterable[Step]) -> OverlayMachine:
        """The machine as it would be; what is placed is fetched."""
        layer = Layer(self._machine)
        for step in steps:
            if step.wanted is not None and step.brought.sha256 not in self._contents:
                self._contents[step.brought.sha256] = self._fetch(*step.wanted)
            step.lay_over(layer, self._contents)
        return layer.over()

    def _grow_plan(self, overlay: Machine, plan: Plan, after: Sequence[Trace]) -> Plan:
        """The plan with what the remaining faults call for: further packages, then bad copies in front of them."""
        faults = [fault for trace in after for fault in trace.faults]
        if not faults:
            return plan
        allowed = with_rights(self._machine, overlay, plan, after)
        if allowed.steps != plan.steps:
            return allowed
        further = plan_restoration(overlay, after, self._known_catalogues(after), self._scope.pins)
        known = {self._machine.fold(step.path) for step in plan.steps}
        steps = [step for step in further.steps if self._machine.fold(step.path) not in known]
        grown = msgspec.structs.replace(
            plan,
            packages=tuple(dict.fromkeys((*plan.packages, *further.packages))),
            steps=(*plan.steps, *steps),
            unmet=further.unmet,
        )
        if steps:
            return grown
        if (mended := self._with_own_remedies(grown, after)).steps != grown.steps:
            return mended
        gentler = with_set_aside(self._machine, grown, faults)
        if gentler.steps != grown.steps and _cured_faults(
            after, self._trace_programs(self._laid_over(gentler.all_steps))
        ):
            return gentler
        return with_found_places(self._machine, grown, faults)

    def _with_own_remedies(self, plan: Plan, after: Sequence[Trace]) -> Plan:
        """The plan with what mends the remaining faults without any package."""
        keep = self._scope.keep
        steps = by_place(self._machine, plan.steps)
        for trace in after if keep is not None else ():
            for remedy in find_own_remedies(self._machine, trace):
                if remedy.data and keep is not None:
                    self._contents[remedy.step.brought.sha256] = keep(remedy.data)
                steps.setdefault(self._machine.fold(remedy.step.path), remedy.step)
        return msgspec.structs.replace(plan, steps=tuple(steps.values()))


def _merge_catalogues(catalogues: Iterable[Catalogue]) -> list[Catalogue]:
    """The catalogues that were asked on demand for many programs: one of each source, with every package once."""
    packages: dict[Source, dict[tuple[str, str, str, str], Package]] = {}
    first: dict[Source, ListedCatalogue] = {}
    others: list[Catalogue] = []
    for catalogue in catalogues:
        if not isinstance(catalogue, ListedCatalogue):
            others.append(catalogue)
            continue
        first.setdefault(catalogue.source, catalogue)
        known = packages.setdefault(catalogue.source, {})
        others.extend(
            catalogue.with_packages((each,))
            for each in catalogue.packages
            if known.setdefault((each.publisher, each.name, each.version, each.architecture), each) != each
        )
    return [
        *(first[source].with_packages(tuple(known.values())) for source, known in packages.items()),
        *others,
    ]


def _still_unmet(plan: Plan, before: Sequence[Trace], after: Sequence[Trace]) -> tuple[Unmet, ...]:
    """Faults without a remedy, except those that the remedies of others cure."""
    left = {name for _, name in _faults(after)}
    cured = {name for _, name in _faults(before)} - left
    return tuple(unmet for unmet in plan.unmet if unmet.name not in cured)


def _cured_faults(before: Sequence[Trace], after: Sequence[Trace]) -> set[tuple[MachinePath, str]]:
    """The faults that are gone. Others may have come to light: a library that was missing can itself lack something."""
    return _faults(before) - _faults(after)


def _faults(traces: Iterable[Trace]) -> set[tuple[MachinePath, str]]:
    return {(trace.program, fault.name) for trace in traces for fault in trace.faults}
