"""A plan from a file as text: what it would do here, what was done, and the way back."""

import shlex
from collections.abc import Sequence

from fundamen.changes.installers import InstallerOutcome
from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.report.commands import command
from fundamen.report.contracts.restoring import RestoreState
from fundamen.report.page import Page, count_of
from fundamen.report.repairing.restore_text import answers, harms, outcome_of, restarts
from fundamen.restore.plan_file import PlanFile
from fundamen.restore.restoration import Prepared, Restoration, Traces

_MOST_WORSE, _MOST_LINES = 20, 8


def plan_rehearsal_text(plan: PlanFile, prepared: Prepared[Traces], machine: Machine, *, drawn: bool) -> str:
    """The page that consent is asked on."""
    page = Page(drawn=drawn)
    steps, after = prepared.work.steps, prepared.rehearsed.traces if prepared.rehearsed is not None else ()
    if not steps:
        page.answer(f"There is nothing to do: {machine.title} is as the plan wants it.", good=True)
        return page.text()
    would = f"{count_of(len(steps), 'step')} would be made on {machine.title}"
    faults = sum(len(trace.faults) for trace in after)
    page.answer(f"{would}; {outcome_of(after, machine)}." if after else f"{would}.", good=not faults if after else None)
    page.heading(f"The plan, made {plan.made_at:%Y-%m-%d %H:%M} UTC for {plan.machine}")
    for folder in prepared.work.copies:
        page.field("copy", f"{folder}   (a cold copy, before anything else)", indent=4, width=10)
    for step in steps:
        page.field(step.verb, f"{step.path}   ({step.because})", indent=4, width=10)
        for detail in step.preview_details:
            page.line(detail, 14)
    if plan.because:
        page.heading("The version was asked for")
        page.line(plan.because)
    harms(page, prepared.harmed)
    if faults:
        page.heading("Rehearsal: traced as it would be")
        page.line(answers(after, machine))
    return page.text()


def plan_file_text(plan: PlanFile, name: str, *, drawn: bool) -> str:
    """The page of a plan as its file has it; no machine was looked at."""
    page = Page(drawn=drawn)
    made = f"made on {plan.made_at:%Y-%m-%d at %H:%M} UTC for {plan.machine}"
    page.answer(f"A plan of {count_of(len(plan.steps), 'step')} for {plan.program}, {made}.")
    page.heading("Its steps")
    width = max(len(step.kind) for step in plan.steps) + 2
    for step in plan.steps:
        page.field(step.kind, f"{step.path}   ({step.because})" if step.because else step.path, indent=4, width=width)
    if plan.further:
        page.heading("It is for these programs as well")
        for program in plan.further:
            page.line(program, 4)
    if plan.because:
        page.heading("The version was asked for")
        page.line(plan.because)
    page.heading("Next")
    page.raw(shlex.join(["fundamen", "plans", "rehearse", name]))
    return page.text()


def plan_text(
    restoration: Restoration[Traces], state: RestoreState, words: Sequence[str], machine: Machine, *, drawn: bool
) -> str:
    """The page after a plan was performed, rehearsed or declined; ``words`` name it and its media."""
    page = Page(drawn=drawn)
    if restoration.proof is None:
        if state in {"rehearsed", "declined"}:
            page.heading("Next")
            page.raw(command(machine, "plans", "run", "--yes", *words))
        return page.text()
    done = f"Carried out: {count_of(len(restoration.prepared.work.steps), 'step')}, each read back and compared."
    worse = f" But it made {count_of(len(restoration.worse), 'thing')} worse." if restoration.worse else ""
    page.answer(f"{done}{worse} {answers(restoration.proof.traces, machine)}".rstrip(), good=restoration.is_well)
    for path, outcome in restoration.installed:
        _add_effects(page, path, outcome)
    restarts(page, restoration.restart, restoration.waiting)
    page.heading("To undo it")
    page.raw(command(machine, "undo", str(restoration.number)))
    return page.text()


def _add_effects(page: Page, path: MachinePath, outcome: InstallerOutcome) -> None:
    """Add the effects of an installer: changes for the worse first."""
    change = outcome.change
    page.heading(f"{path}: {outcome.meaning}")
    parts = ((change.added, "added"), (change.changed, "changed"), (change.removed, "removed"))
    summary = ", ".join(f"{len(paths)} {word}" for paths, word in parts if paths) or "nothing"
    page.field("files", f"{summary}; {count_of(len(outcome.values), 'value')} of the registry changed", 4, 10)
    for worse in outcome.worse[:_MOST_WORSE]:
        page.field("worse", worse, 4, 10)
    for line in outcome.lines[:_MOST_LINES]:
        page.field(f"line {line.number}", line.text, 4, 10)
