"""A plan file, prepared for one machine; and what was rehearsed as such a file."""

from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, cast

from fundamen.changes.form import Means
from fundamen.evidence.authority import Authority
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.overlay import Layer
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.placing.file_state import read_state
from fundamen.restore.harms import find_harms
from fundamen.restore.plan_file import PlanFile
from fundamen.restore.rehearsal import Rehearsal
from fundamen.restore.resolving import resolve_plan
from fundamen.restore.restoration import Prepared, Traces
from fundamen.trace.trace import trace_program

if TYPE_CHECKING:
    from fundamen.changes.kinds import PlannedStep


def plan_of(machine: Machine, rehearsal: Rehearsal, now: datetime) -> PlanFile | None:
    """A rehearsal's steps as a plan, with what stands now in their places; None where there are none."""
    work = rehearsal.work
    vacated = {step.path for step in work.steps if step.vacates}
    steps = [
        step.form(read_state(machine.entry_place(step.path)) if step.writes_file and step.path not in vacated else None)
        for step in work.steps
    ]
    if not steps:
        return None
    return PlanFile(
        program=work.program,
        machine=machine.title,
        made_at=now,
        steps=cast("tuple[PlannedStep, ...]", tuple(steps)),
        further=work.further,
        because=work.because,
    )


def prepare_plan(
    machine: Machine,
    plan: PlanFile,
    means: Means,
    authorities: Sequence[Authority],
    others: Sequence[MachinePath] = (),
) -> Prepared[Traces]:
    """Prepare a plan for a machine as it is now, with its result; nothing is changed.

    ``others`` are programs that must not lose anything by it.

    Raises:
        FundamenError: as ``resolve_plan`` raises.
    """
    work = resolve_plan(machine, plan, means)
    layer = Layer(machine)
    for step in work.steps:
        step.lay_over(layer, work.contents)
    overlay = layer.over()
    named = {plan.program, *plan.further}
    prove = partial(
        _trace_programs, programs=tuple(map(MachinePath, (plan.program, *plan.further))), authorities=authorities
    )
    return Prepared(
        work=work,
        before=prove(machine),
        rehearsed=prove(overlay),
        prove=prove,
        make_ready=lambda: [means.take_copy(folder) for folder in work.copies],
        harmed=tuple(find_harms(machine, overlay, (each for each in others if each not in named), authorities)),
    )


def _trace_programs(machine: Machine, programs: Sequence[MachinePath], authorities: Sequence[Authority]) -> Traces:
    """The plan's programs, as far as they can be traced."""
    traces = []
    for program in programs:
        if machine.look(program).kind is EntryKind.FILE:
            with suppress(UnreadableError):
                traces.append(trace_program(machine, program, authorities))
    return Traces(tuple(traces))
