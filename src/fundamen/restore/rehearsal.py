"""Rehearse a plan: lay it over the machine and trace the program again."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

import msgspec

from fundamen.evidence.authority import Authority
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.overlay import OverlayMachine
from fundamen.model.package import PackageFile
from fundamen.model.paths import HostPath, MachinePath
from fundamen.restore.on_demand import OnDemand, catalogues_with
from fundamen.restore.plan import Plan, Unmet, plan_restoration, with_found_places
from fundamen.restore.steps import InstallPackages, PlaceFile, PlaceLink, Work
from fundamen.sources.catalogue import Catalogue, Source
from fundamen.sources.os_archive import NewPackages
from fundamen.trace.bringing import with_bringers
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program

Fetch = Callable[[Source, PackageFile], HostPath]

_MOST_ROUNDS = 20  # each round uncovers what the libraries of the round before need


class Harm(msgspec.Struct, frozen=True):
    """What another program would lack."""

    program: MachinePath
    name: str  # of the component
    reason: str


class Rehearsal(msgspec.Struct, frozen=True):
    """A plan with what it would come to."""

    before: Trace
    plan: Plan
    after: Trace
    contents: dict[str, HostPath]  # SHA-256 -> our own verified copy of the bytes
    harmed: tuple[Harm, ...] = ()  # other programs that would lack something which they have now

    @property
    def is_offered(self) -> bool:
        """Whether it may be carried out: it does something, and no other program would lack anything for it."""
        return not self.plan.is_empty and not self.harmed

    @property
    def work(self) -> Work:
        """What is to be carried out."""
        titles = tuple(f"{package.title} from {source.name}" for source, package in self.plan.packages)
        if self.plan.installs is None:
            return Work(self.plan.program, titles, self.plan.steps, self.contents)
        titles = (*(f"{each.name} {each.version}" for each in self.plan.installs.packages), *titles)
        return Work(self.plan.program, titles, (self.plan.installs, *self.plan.steps), self.contents)


def rehearse(
    machine: Machine,
    program: MachinePath,
    catalogues: Sequence[Catalogue],
    authorities: Sequence[Authority],
    fetch: Fetch,
    on_demand: Sequence[OnDemand] = (),
    new: NewPackages | None = None,
    others: Iterable[MachinePath] = (),
) -> Rehearsal:
    """Trace a program, plan for its faults, and trace it again as it would be; nothing on the machine is changed.

    A library that was missing may itself need what is missing too. Such faults show only once it is in place, so the
    plan is laid over the machine and grown until nothing more can be mended.

    Args:
        machine: as it is.
        program: what is to be put right.
        catalogues: of the trusted sources.
        authorities: who vouches for bytes.
        fetch: brings a file of a source in.
        on_demand: what else is asked, such as the operating system's archive.
        new: what the operating system's package manager is to install.
        others: programs that must not come to lack anything by it.

    Raises:
        UntrustedError: a file of a source is not what was signed.
        UnreadableError: the program or a source cannot be read.
    """
    before = after = trace_program(machine, program, authorities)
    installs = _installing(new) if new is not None and new.wanted else None
    if new is not None:
        after = trace_program(_laid_over(machine, new, {}, {}), program, authorities)
    known = tuple(catalogues_with(on_demand, catalogues, after))
    plan = msgspec.structs.replace(plan_restoration(machine, after, known), installs=installs)
    contents: dict[str, HostPath] = {}
    overlay = _laid_over(machine, new, {}, {})
    for _ in range(_MOST_ROUNDS):
        for step in plan.steps:
            if isinstance(step, PlaceFile) and step.sha256 not in contents:
                contents[step.sha256] = fetch(step.source, step.file)
        links = {step.path: step.leads_to for step in plan.steps if isinstance(step, PlaceLink)}
        placed = {step.path: _content(machine, step, contents) for step in plan.steps}
        overlay = _laid_over(machine, new, placed, links)
        after = trace_program(overlay, program, authorities)
        further = tuple(catalogues_with(on_demand, catalogues, after))
        grown = _grown(overlay, machine, plan, after, further)
        if grown.steps == plan.steps:
            break
        plan = grown
    if not plan.is_empty and not _cured(before, after):
        useless = tuple(Unmet(fault.name, "what the sources have for it would not mend it") for fault in before.faults)
        nothing = msgspec.structs.replace(plan, packages=(), steps=(), unmet=useless, installs=None)
        return Rehearsal(before, nothing, with_bringers(machine, before), contents)
    harmed = tuple(_harms(machine, overlay, others, authorities)) if not plan.is_empty else ()
    return Rehearsal(before, plan, with_bringers(machine, after), contents, harmed)


def _harms(
    machine: Machine, overlay: Machine, others: Iterable[MachinePath], authorities: Sequence[Authority]
) -> Iterator[Harm]:
    for program in others:
        if machine.look(program).kind is not EntryKind.FILE:
            continue  # it is gone by now
        known = {fault.name for fault in trace_program(machine, program, authorities).faults}
        for fault in trace_program(overlay, program, authorities).faults:
            if fault.name not in known:
                yield Harm(program, fault.name, fault.reason or str(fault.verdict))


def _installing(new: NewPackages) -> InstallPackages:
    names = ", ".join(each.name for each in new.wanted)
    return InstallPackages(path=MachinePath(names), because="not installed", packages=new.wanted, files=new.files)


def _laid_over(
    machine: Machine,
    new: NewPackages | None,
    placed: Mapping[MachinePath, HostPath],
    links: Mapping[MachinePath, MachinePath],
) -> OverlayMachine:
    """The machine as it would be; the links of new packages are laid over it as copies of that to which they lead."""
    brought, leading = (new.placed(), new.links()) if new is not None else ({}, {})
    followed: dict[MachinePath, MachinePath] = {}
    for path, target in leading.items():
        leads_to = machine.join(machine.real(machine.folder_of(path)), target)
        copy = next((copy for place, copy in brought.items() if machine.real(place) == leads_to), None)
        if copy is not None:
            followed[path] = leads_to
            brought = {**brought, path: copy}
    return OverlayMachine(machine, {**brought, **placed}, {**followed, **links})


def _content(machine: Machine, step: PlaceFile | PlaceLink, contents: Mapping[str, HostPath]) -> HostPath:
    """The host file with the bytes that would be found at a step's path; a link is rehearsed as a copy."""
    if isinstance(step, PlaceLink) and step.sha256 not in contents:
        return machine.host_path(step.leads_to)
    return contents[step.sha256]


def _cured(before: Trace, after: Trace) -> set[str]:
    """The faults that are gone. Others may have come to light: a library that was missing can itself lack something."""
    return {fault.name for fault in before.faults} - {fault.name for fault in after.faults}


def _grown(overlay: Machine, machine: Machine, plan: Plan, after: Trace, catalogues: Sequence[Catalogue]) -> Plan:
    """The plan with what the remaining faults call for: further packages first, bad copies in front of them second."""
    if not after.faults:
        return plan
    further = plan_restoration(overlay, after, catalogues)
    known = {machine.folded(step.path) for step in plan.steps}
    steps = [step for step in further.steps if machine.folded(step.path) not in known]
    grown = msgspec.structs.replace(
        plan,
        packages=tuple(dict.fromkeys((*plan.packages, *further.packages))),
        steps=(*plan.steps, *steps),
        unmet=further.unmet,
    )
    return grown if steps else with_found_places(machine, grown, after.faults)
