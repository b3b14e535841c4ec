"""Restorations as text: plan, rehearsal, outcome, proof; undoing; the history."""

from collections.abc import Sequence

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.package import Package
from fundamen.model.verdict import Verdict
from fundamen.report.commands import command
from fundamen.report.page import Page, counted, size_in_words
from fundamen.report.trace_text import answer, next_step
from fundamen.restore.clean_up import Kept
from fundamen.restore.journal import Entry, State
from fundamen.restore.plan import Plan
from fundamen.restore.records import EntryRecord
from fundamen.restore.rehearsal import Rehearsal
from fundamen.restore.restoration import Restoration
from fundamen.restore.steps import PlaceFile
from fundamen.sources.catalogue import Source, SourceKind

_MOST_KEPT = 5 << 30  # bytes of originals, from which on a clean-up is proposed
_MOST_NAMES = 8  # of sound files that are told


def rehearsal_text(rehearsal: Rehearsal, machine: Machine, *, drawn: bool) -> str:
    """The page that consent is asked on: what would be done, and what would come of it."""
    page = Page(drawn=drawn)
    before, after, plan = rehearsal.before, rehearsal.after, rehearsal.plan
    name = machine.paths.basename(plan.program)
    if not before.faults:
        page.answer(f"Nothing is to be restored. {answer(before, machine)}", good=True)
        return page.text()
    if plan.is_empty:
        page.answer(f"Nothing can be restored. {answer(before, machine)}", good=False)
    else:
        outcome = "has all that it needs" if not after.faults else f"still has {counted(len(after.faults), 'fault')}"
        page.answer(f"{_would_be_done(plan)}; {name} then {outcome}.", good=not after.faults)
        _plan(page, plan)
    if rehearsal.harmed:
        page.heading("Not offered: other programs would come to lack something")
        for harm in rehearsal.harmed:
            page.verdict(Verdict.MISSING, harm.name, word="would lack")
            page.field("program", harm.program)
            page.field("because", harm.reason)
    if plan.unmet:
        page.heading("No trusted remedy")
        page.columns([(unmet.name, unmet.why) for unmet in plan.unmet])
    if not plan.is_empty:
        page.heading("Rehearsal: the program traced as it would be")
        page.line(answer(after, machine))
        for fault in after.faults:
            page.verdict(fault.verdict, fault.name)
            page.field("because", fault.reason)
    return page.text()


def restoration_text(restoration: Restoration, machine: Machine, *, drawn: bool, options: Sequence[str] = ()) -> str:
    """The page after a restoration: what was done, the proof, and the way back.

    Args:
        restoration: what came of it.
        machine: whose it was.
        drawn: whether the terminal can draw block marks.
        options: of the command that rehearsed it, without which it could not be carried out.
    """
    page = Page(drawn=drawn)
    plan, proof, number = restoration.rehearsal.plan, restoration.proof, restoration.number
    if proof is None or number is None:
        _launched(page, restoration, machine)
        page.heading("Next")
        page.step(_after_rehearsal(restoration, machine, options))
        return page.text()
    page.answer(f"Restored: {_was_done(plan)}. {answer(proof, machine)}", good=not proof.faults)
    for fault in proof.faults:
        page.verdict(fault.verdict, fault.name)
        page.field("because", fault.reason)
    if restoration.unsettled:
        page.heading("Changed again by itself since it was placed")
        for path in restoration.unsettled:
            page.line(path, 4)
        page.line(
            "Something on this machine, perhaps a scanner, takes it away or writes over it. Have its administrator"
            " exclude exactly this path, nothing more; then restore again."
        )
    _launched(page, restoration, machine)
    if restoration.restart:
        page.heading("What runs already keeps the old files until it is started anew")
        for advice in restoration.restart:
            page.raw(advice)
    page.heading("To take it back")
    page.raw(command(machine, "undo", str(number)))
    return page.text()


def undo_text(entry: Entry, machine: Machine, *, drawn: bool) -> str:
    """The page after an undo."""
    page = Page(drawn=drawn)
    page.answer(f"Restoration {entry.number} is undone: {_steps(entry)} as before.", good=True)
    page.blank()
    page.columns([(step.record.undone, step.record.path) for step in entry.steps])
    _look_again(page, entry, machine)
    return page.text()


def resumed_text(entry: Entry, machine: Machine, *, drawn: bool) -> str:
    """The page after a restoration that was cut off has come to its end."""
    page = Page(drawn=drawn)
    page.answer(f"Restoration {entry.number} is finished: {_steps(entry)} as planned.", good=True)
    page.blank()
    page.columns([("in place", step.record.path) for step in entry.steps])
    _look_again(page, entry, machine)
    page.heading("To take it back")
    page.raw(command(machine, "undo", str(entry.number)))
    return page.text()


def _steps(entry: Entry) -> str:
    """How much a restoration has changed; what is no file is counted as a step."""
    are_files = all(isinstance(step.record, EntryRecord) for step in entry.steps)
    return counted(len(entry.steps), "file" if are_files else "step")


def _look_again(page: Page, entry: Entry, machine: Machine) -> None:
    """The command that shows how things are now; a folder that was brought back has none."""
    if machine.look(entry.program).kind is EntryKind.FOLDER:
        return
    is_of_root = any(isinstance(s.record, EntryRecord) and s.record.insertion is not None for s in entry.steps)
    page.heading("Next")
    page.raw(command(machine, "inspect" if is_of_root else "trace", entry.program))


def clean_up_text(chosen: Sequence[Kept], *, drawn: bool) -> str:
    """The page that consent is asked on: whose originals would be given up."""
    page = Page(drawn=drawn)
    size = size_in_words(sum(each.size for each in chosen))
    page.answer(f"{counted(len(chosen), 'restoration')} would stand for good; their originals take up {size}.")
    page.blank()
    rows = [(str(k.entry.number), f"{k.entry.started_at:%Y-%m-%d %H:%M}", k.entry.program) for k in chosen]
    page.columns(rows, heads=("no.", "begun (UTC)", "program"))
    return page.text()


def history_text(entries: Sequence[Entry], kept: Sequence[Kept], machine: Machine, *, drawn: bool) -> str:
    """The page of all restorations, the newest first."""
    page = Page(drawn=drawn)
    unfinished = [entry for entry in entries if entry.is_unfinished]
    if not entries:
        page.answer(f"Nothing has been restored on {machine.title}.")
        return page.text()
    if unfinished:
        page.answer(
            f"Restoration {unfinished[0].number} is not finished: it was cut off, or is under way now.", good=False
        )
    else:
        standing = sum(entry.state is State.DONE for entry in entries)
        page.answer(f"{counted(len(entries), 'restoration')} on {machine.title}; {standing} in force.")
    page.blank()
    page.columns(
        [
            (str(e.number), f"{e.started_at:%Y-%m-%d %H:%M}", str(e.state), _steps(e), e.program)
            for e in reversed(entries)
        ],
        heads=("no.", "begun (UTC)", "state", "changed", "program"),
    )
    size = sum(each.size for each in kept)
    if size > _MOST_KEPT:
        page.blank()
        page.line(f"The originals that are kept take up {size_in_words(size)}. To give old ones up:")
        page.raw(command(machine, "history", "--clean"))
    if unfinished:
        page.heading("Next")
        if unfinished[0].state is State.UNDER_WAY:
            page.raw(command(machine, "resume"))
            page.line("goes on with it; or take it back:")
        page.raw(command(machine, "undo", str(unfinished[0].number)))
    return page.text()


def _would_be_done(plan: Plan) -> str:
    files = f"{counted(len(plan.steps), 'file')} would be put in place ({size_in_words(plan.size)})"
    if plan.installs is None:
        return files
    packages = f"{counted(len(plan.installs.packages), 'package')} would be installed"
    return f"{packages}, and {files}" if plan.steps else packages


def _was_done(plan: Plan) -> str:
    files = f"{counted(len(plan.steps), 'file')} in place, read back and compared"
    if plan.installs is None:
        return files
    packages = f"{counted(len(plan.installs.packages), 'package')} installed"
    return f"{packages}, {files}" if plan.steps else packages


def _plan(page: Page, plan: Plan) -> None:
    if plan.installs is not None:
        page.heading("By the system's package manager; nothing else is upgraded or removed")
        for each in plan.installs.packages:
            page.field("install", f"{each.name} {each.version}   ({plan.installs.because})", indent=4, width=9)
    for source, package in plan.packages:
        page.heading(f"{package.title}, by {package.publisher}")
        page.line(_whence(source, package))
        steps = [step for step in plan.steps if step.package == package]
        for step in steps:
            verb = "link" if step.link else "replace" if step.replaces else "place"
            page.field(verb, f"{step.path}   ({step.because})", indent=4, width=9)
        touched = {step.file for step in steps if isinstance(step, PlaceFile)}
        names = [file.name for file in package.files if file not in touched]
        if names:
            more = f" and {len(names) - _MOST_NAMES} more" if len(names) > _MOST_NAMES else ""
            page.field("leave", f"{', '.join(names[:_MOST_NAMES])}{more}   (sound)", indent=4, width=9)


def _whence(source: Source, package: Package) -> str:
    if source.kind is SourceKind.ARCHIVE:
        return f"from {source.name}, proven by the archive's signature, as apt checks it"
    if source.kind in {SourceKind.MEDIA, SourceKind.REFERENCE}:
        return f"from {source.name}; what vouches for it: {package.proven_by}"
    return f"from the source {source.name}, proven by its signatures just now"


def _launched(page: Page, restoration: Restoration, machine: Machine) -> None:
    """How the program's run ended, if it was run, with what it wrote."""
    if restoration.launched is not None:
        name = machine.paths.basename(restoration.rehearsal.plan.program)
        page.heading(f"{name} was run: {restoration.launched.outcome}")
        for line in restoration.launched.output.splitlines():
            page.raw(line)


def _after_rehearsal(restoration: Restoration, machine: Machine, options: Sequence[str]) -> str:
    rehearsal = restoration.rehearsal
    if not rehearsal.before.faults:
        return next_step(rehearsal.before, machine)
    if rehearsal.harmed:
        return "Find a version that serves all of them: fundamen sources offers NEED"
    if not rehearsal.plan.is_empty:
        return command(machine, "restore", "--yes", *options, rehearsal.plan.program)
    brought = dict.fromkeys(fault.brought_by[0] for fault in rehearsal.after.faults if fault.brought_by)
    if brought:
        installing = (word for name in brought for word in ("--install", name))
        return command(machine, "restore", *installing, *options, rehearsal.plan.program)
    if any(unmet.why == "no source is trusted yet" for unmet in rehearsal.plan.unmet):
        return "fundamen sources trust PLACE --fingerprint FINGERPRINT"
    name = next((u.name for u in rehearsal.plan.unmet), "NAME")
    return command(machine, "sources", "offers", name) if name else str(Verdict.MISSING)
