"""A plan from its file to its proof, and a rehearsal as such a file."""

from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import datetime
from typing import TYPE_CHECKING

import msgspec

from fundamen.changes.base import AS_AROUND, Tell, Work
from fundamen.changes.files import Change, MakeLink, PutFile
from fundamen.changes.folders import MakeFolder, SetFolder
from fundamen.changes.form import Expected, Means
from fundamen.changes.installers import InstallerOutcome, InstallerRunRecord, outcome_of
from fundamen.changes.moves import Move, SetAside
from fundamen.changes.packages import InstallByName
from fundamen.evidence.authority import Authority
from fundamen.execution.carrying_out import Progress, Stop, carry_out
from fundamen.execution.journal import Journal
from fundamen.execution.locking import alone_on, require_finished
from fundamen.execution.restarting import Restart, Waiting, find_restarts, judge_waiting
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.overlay import OverlayMachine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import read_state
from fundamen.restore.plan_file import PlanFile
from fundamen.restore.rehearsal import Harm, Rehearsal, find_harms
from fundamen.restore.resolving import resolve_plan
from fundamen.restore.steps import PlaceFolder, PlaceLink
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program

if TYPE_CHECKING:
    from fundamen.changes.kinds import PlannedStep
    from fundamen.machine.places import Place


class PlannedRestoration(msgspec.Struct, frozen=True):
    """A plan on a machine and, where it was carried out, what came of it."""

    plan: PlanFile
    work: Work
    before: tuple[Trace, ...]  # of the plan's programs, as far as they can be traced
    rehearsed: tuple[Trace, ...]
    number: int | None = None  # in the journal; None where nothing was carried out
    proof: tuple[Trace, ...] = ()
    harmed: tuple[Harm, ...] = ()  # other programs that would lack something; it is not carried out then
    restart: tuple[Restart, ...] = ()  # what must be started anew
    waiting: Waiting | None = None
    installed: tuple[tuple[MachinePath, InstallerOutcome], ...] = ()  # what came of publishers' installers

    @property
    def remaining(self) -> int:
        """How many faults the programs have now."""
        return sum(len(trace.faults) for trace in (self.before if self.number is None else self.proof))

    @property
    def worse(self) -> tuple[str, ...]:
        """What publishers' installers have made worse."""
        return tuple(each for _, outcome in self.installed for each in outcome.worse)

    @property
    def is_well(self) -> bool:
        """Whether the programs have no fault now, and nothing was made worse."""
        return not self.remaining and not self.worse


def plan_of(machine: Machine, rehearsal: Rehearsal, now: datetime) -> PlanFile | None:
    """A rehearsal's steps as a plan, with what stands now in their places; None where there are none."""
    steps: list[PlannedStep] = []
    installs = rehearsal.plan.installs
    if installs is not None:
        steps.append(InstallByName(path="/var/lib/dpkg", names=tuple(each.name for each in installs.packages)))
    for step in rehearsal.plan.steps:
        if isinstance(step, Move):
            steps.append(SetAside(path=step.path, because=step.because))
            continue
        if isinstance(step, PlaceFolder):
            steps.append(_as_planned(step))
            continue
        state = read_state(machine.entry_place(step.path))
        expects = Expected(state.sha256, state.link) if state is not None else Expected()
        if isinstance(step, PlaceLink):
            steps.append(MakeLink(path=step.path, because=step.because, target=step.link, expects=expects))
        else:
            steps.append(
                PutFile(
                    path=step.path,
                    because=step.because,
                    sha256=step.sha256,
                    size=step.size,
                    name=step.file.name,
                    package=step.package.title,
                    executable=step.executable,
                    mode=step.mode & 0o777 if step.mode is not None else None,  # more the source itself says
                    expects=expects,
                )
            )
    if not steps:
        return None
    return PlanFile(
        program=rehearsal.plan.program,
        machine=machine.title,
        made_at=now,
        steps=tuple(steps),
        further=tuple(before.program for before, _ in rehearsal.further),
        because=rehearsal.because,
    )


def _as_planned(step: PlaceFolder) -> MakeFolder:
    uid, gid = (f"#{number}" if number != AS_AROUND else "" for number in (step.state.uid, step.state.gid))
    return MakeFolder(path=step.path, because=step.because, mode=step.state.mode, owner=uid, group=gid)


def rehearse_plan(
    machine: Machine,
    plan: PlanFile,
    means: Means,
    authorities: Sequence[Authority],
    others: Sequence[MachinePath] = (),
) -> PlannedRestoration:
    """What a plan comes to on a machine as it is now, and what would come of it; nothing is changed.

    ``others`` are programs that must not come to lack anything by it.

    Raises:
        FundamenError: as ``resolve_plan`` raises.
    """
    work = resolve_plan(machine, plan, means)
    overlay = _laid_over(machine, work)
    named = {plan.program, *plan.further}
    harmed = find_harms(machine, overlay, (each for each in others if each not in named), authorities)
    before, rehearsed = _traced(machine, plan, authorities), _traced(overlay, plan, authorities)
    return PlannedRestoration(plan, work, before, rehearsed, harmed=tuple(harmed))


def perform_plan(
    machine: Machine,
    planned: PlannedRestoration,
    journal: Journal,
    authorities: Sequence[Authority],
    now: datetime,
    progress: Progress,
    stop: Stop,
    take_copy: Callable[[MachinePath], object] = lambda _folder: None,
    waiting: str = "",
    tell: Tell = lambda _sentence: None,
) -> PlannedRestoration:
    """Carry a plan out and prove it; cold copies that it asks for are taken first.

    Raises:
        FundamenError: a cold copy could not be taken, and nothing was begun; or as ``perform`` of a restoration raises.
    """
    restart = find_restarts(machine, planned.work)
    judged = judge_waiting(machine, planned.work, waiting) if waiting else None
    with alone_on(machine):
        require_finished(machine, journal)
        for folder in planned.work.copies:
            take_copy(folder)
        number = carry_out(machine, planned.work, journal, now, progress, stop, tell)
    proof = _traced(machine.afresh(), planned.plan, authorities)
    entry = journal.find(number)
    records = [s.record for s in entry.steps if isinstance(s.record, InstallerRunRecord)] if entry is not None else []
    installed = tuple((r.path, outcome) for r in records if (outcome := outcome_of(r, journal.site)) is not None)
    restart = (*restart, *(Restart(f"start {machine.title} anew", o.meaning) for _, o in installed if o.needs_restart))
    return msgspec.structs.replace(
        planned, number=number, proof=proof, restart=restart, waiting=judged, installed=installed
    )


def _traced(machine: Machine, plan: PlanFile, authorities: Sequence[Authority]) -> tuple[Trace, ...]:
    traces = []
    for program in map(MachinePath, (plan.program, *plan.further)):
        if machine.look(program).kind is EntryKind.FILE:
            with suppress(UnreadableError):
                traces.append(trace_program(machine, program, authorities))
    return tuple(traces)


def _laid_over(machine: Machine, work: Work) -> OverlayMachine:
    """The machine as it would be; what the package manager would bring is not laid over it."""
    placed: dict[MachinePath, HostPath | Place] = {}
    links: dict[MachinePath, MachinePath] = {}
    gone: list[MachinePath] = []
    made: list[MachinePath] = []
    for step in work.steps:
        if isinstance(step, Move):
            gone.append(step.path)
        elif isinstance(step, SetFolder):
            made.append(step.path)
        elif isinstance(step, Change) and not step.link:
            placed[step.path] = work.contents[step.sha256]
        elif isinstance(step, Change):
            links[step.path] = machine.real(machine.join(machine.folder_of(step.path), step.link))
    for path, leads_to in links.items():
        if (copy := placed.get(leads_to)) is not None:
            placed[path] = copy
        elif machine.look(leads_to).kind is EntryKind.FILE:
            placed[path] = machine.place(leads_to) if machine.is_at_folder else machine.host_path(leads_to)
    return OverlayMachine(machine, placed, links, gone, made)
