"""Restorations as text: plan, rehearsal, outcome, proof; undoing; the history."""

from collections.abc import Iterator, Sequence

from fundamen.changes.files import Change
from fundamen.changes.rights import ChangeRights
from fundamen.execution.clean_up import Kept
from fundamen.execution.journal import JournalEntry, RestorationState
from fundamen.execution.originals import Originals
from fundamen.execution.restarting import Restart, Waiting
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.binary import Format
from fundamen.model.package import Package
from fundamen.model.verdict import Verdict
from fundamen.report.commands import change_command, command
from fundamen.report.examining.trace_text import answer, next_step, title_of, together
from fundamen.report.page import Page, count_of, size_in_words, some_of
from fundamen.restore.harms import Harm
from fundamen.restore.plan import Plan
from fundamen.restore.rehearsal import Rehearsal
from fundamen.restore.restoration import Restoration, Traces
from fundamen.restore.steps import PlaceFile, PlaceFolder, PlaceLink
from fundamen.sources.catalogue import Source, SourceKind
from fundamen.trace.records import Trace

_MOST_KEPT = 5 << 30  # bytes of originals, from which on a clean-up is proposed
_MOST_PROGRAMS = 6  # programs of which each is reported by itself
_MOST_NAMES = 8  # of sound files that are reported

_DONE = {
    "install": "installed",
    "set aside": "set aside",
    "change": "changed",
    "make": "made",
    "place": "in place, read back and compared",
}


def rehearsal_text(rehearsal: Rehearsal, machine: Machine, *, drawn: bool) -> str:
    """The page that consent is asked on: what would be done, and what would come of it."""
    page = Page(drawn=drawn)
    plan, traces_before, traces_after = rehearsal.plan, rehearsal.before.traces, rehearsal.after.traces
    if not rehearsal.is_needed:
        page.answer(f"There is nothing to restore. {answers(traces_before, machine)}", good=True)
        return page.text()
    if plan.is_empty and not rehearsal.before.faults:
        page.answer("The version that was asked for is not to be had; nothing is changed.", good=False)
    elif plan.is_empty:
        page.answer(f"Nothing can be restored. {answers(traces_before, machine)}", good=False)
    else:
        page.answer(f"{_would_be_done(plan)}; {outcome_of(traces_after, machine)}.", good=not rehearsal.after.faults)
        _plan(page, plan)
        if rehearsal.because:
            page.heading("The version was asked for")
            page.line(rehearsal.because)
    harms(page, rehearsal.harmed)
    if plan.unmet:
        page.heading("No trusted remedy")
        page.columns(list(_without_remedy(plan)))
    if not plan.is_empty:
        _as_it_would_be(page, traces_after, machine)
    return page.text()


def _without_remedy(plan: Plan) -> Iterator[tuple[str, str]]:
    """Name and reason of what cannot be mended; of very many with one reason the first, and how many more."""
    names: dict[str, list[str]] = {}
    for unmet in plan.unmet:
        names.setdefault(unmet.why, []).append(unmet.name)
    for why, those in names.items():
        yield from ((name, why) for name in those[:_MOST_NAMES])
        if len(those) > _MOST_NAMES:
            yield f"and {len(those) - _MOST_NAMES} more", why


def _add_faults(page: Page, trace: Trace) -> None:
    """Add the remaining faults; those that differ only in the name together."""
    for fault, others in together(trace.faults):
        page.verdict(fault.verdict, fault.name)
        if others:
            page.field("and so are", some_of(others, _MOST_NAMES))
        page.field("because", fault.reason)


def harms(page: Page, harmed: Sequence[Harm]) -> None:
    """The losses of other programs, for which a restoration is rejected."""
    if harmed:
        page.heading("Rejected: this would break other programs")
    for harm in harmed:
        page.verdict(Verdict.MISSING, harm.name, word="would lack")
        page.field("program", harm.program)
        page.field("because", harm.reason)


def _as_it_would_be(page: Page, traces: Sequence[Trace], machine: Machine) -> None:
    """The state of each program, traced on the machine as it would be."""
    alone = "the package" if traces[0].format is Format.INSTALLED else "the program"
    page.heading(f"Rehearsal: {'each' if len(traces) > 1 else alone} traced as it would be")
    is_long = _is_long(traces)
    for trace in traces:
        if trace.faults or not is_long:
            page.line(answer(trace, machine))
        _add_faults(page, trace)
    if is_long:
        page.line(_of_sound(traces, machine))


def answers(traces: Sequence[Trace], machine: Machine) -> str:
    """The answers for some programs: one sentence for each or, for very many, one for all that are well."""
    subject = traces if not _is_long(traces) else [trace for trace in traces if trace.faults]
    sentences = [answer(trace, machine) for trace in subject]
    return " ".join((*sentences, _of_sound(traces, machine)) if _is_long(traces) else sentences)


def _is_long(traces: Sequence[Trace]) -> bool:
    """Whether those that have what they need are too many to be reported one by one."""
    return sum(not trace.faults for trace in traces) > _MOST_PROGRAMS


def _of_sound(traces: Sequence[Trace], machine: Machine) -> str:
    names = [title_of(trace, machine) for trace in traces if not trace.faults]
    return f"{len(names)} have all that they need: {some_of(names, _MOST_NAMES)}."


def outcome_of(traces: Sequence[Trace], machine: Machine) -> str:
    """The state of the programs as they would be; one alone, or all together."""
    faults = sum(len(trace.faults) for trace in traces)
    names = [title_of(trace, machine) for trace in traces]
    if len(set(names)) < len(names):
        names = [trace.program for trace in traces]
    subject, has, all_of_it = names[-1], "has", "all that it needs"
    if len(names) > _MOST_PROGRAMS:
        subject, has, all_of_it = f"all {len(names)}", "have", "all that they need"
    elif len(names) > 1:
        subject, has, all_of_it = f"{', '.join(names[:-1])} and {subject}", "have", "all that they need"
    return f"{subject} then still {has} {count_of(faults, 'fault')}" if faults else f"{subject} then {has} {all_of_it}"


def restoration_text(
    restoration: Restoration[Traces],
    rehearsal: Rehearsal,
    machine: Machine,
    *,
    drawn: bool,
    options: Sequence[str] = (),
    again: str = "",
    more: Sequence[str] = (),
) -> str:
    """The page after a restoration: what was done, the proof, and the way back.

    Args:
        restoration: what came of it.
        rehearsal: as it was planned.
        machine: whose it was.
        drawn: whether the terminal can draw block marks.
        options: of the command that rehearsed it, without which it could not be performed.
        again: the command that performs it, if it was another one that rehearsed it.
        more: further programs that were restored with the first.
    """
    page = Page(drawn=drawn)
    if restoration.proof is None:
        _add_launch(page, restoration, machine)
        page.heading("Next")
        is_to_do = restoration.prepared.is_offered
        page.step(again if again and is_to_do else _after_rehearsal(rehearsal, machine, options, more))
        return page.text()
    proofs = restoration.proof.traces
    page.answer(f"Restored: {_was_done(rehearsal.plan)}. {answers(proofs, machine)}", good=not restoration.remaining)
    for trace in proofs:
        _add_faults(page, trace)
    if restoration.unsettled:
        page.heading("Changed again by itself since it was placed")
        for path in restoration.unsettled:
            page.line(path, 4)
        page.line(
            "Something on this machine, perhaps a scanner, takes it away or writes over it. Have its administrator"
            " exclude exactly this path, nothing more; then restore again."
        )
    _add_launch(page, restoration, machine)
    restarts(page, restoration.restart, restoration.waiting)
    page.heading("To undo it")
    page.raw(command(machine, "undo", str(restoration.number)))
    return page.text()


def restarts(page: Page, found: Sequence[Restart], waiting: Waiting | None) -> None:
    """Add the programs to restart, and the advice for a waiting installer."""
    if waiting is not None:
        page.heading(f"{waiting.name} {waiting.verdict}")
        page.line(waiting.why)
    if found:
        page.heading("To be done before the change is seen everywhere")
    for each in found:
        page.raw(each.what)
        page.line(each.why, 4)


def undo_text(entry: JournalEntry, machine: Machine, *, drawn: bool) -> str:
    """The page after an undo."""
    page = Page(drawn=drawn)
    page.answer(f"Restoration {entry.number} is undone: {_steps(entry)} as before.", good=True)
    page.blank()
    page.columns([(step.record.undone, step.record.path) for step in entry.steps])
    _look_again(page, entry, machine)
    return page.text()


def resumed_text(entry: JournalEntry, machine: Machine, *, drawn: bool) -> str:
    """The page after a restoration that was interrupted has come to its end."""
    page = Page(drawn=drawn)
    page.answer(f"Restoration {entry.number} is finished: {_steps(entry)} as planned.", good=True)
    page.blank()
    page.columns([("in place", step.record.path) for step in entry.steps])
    _look_again(page, entry, machine)
    page.heading("To undo it")
    page.raw(command(machine, "undo", str(entry.number)))
    return page.text()


def _steps(entry: JournalEntry) -> str:
    """How much a restoration has changed; what is no file is counted as a step."""
    are_files = all(step.record.is_file for step in entry.steps)
    return count_of(len(entry.steps), "file" if are_files else "step")


def _look_again(page: Page, entry: JournalEntry, machine: Machine) -> None:
    """The command that shows how things are now; neither a folder nor an entry of a directory has one."""
    if (
        not any(step.record.is_on_machine for step in entry.steps)
        or machine.look(entry.program).kind is EntryKind.FOLDER
    ):
        return
    is_of_root = any(step.record.is_insertion for step in entry.steps)
    page.heading("Next")
    page.raw(command(machine, "inspect" if is_of_root else "trace", entry.program))


def clean_up_text(chosen: Sequence[Kept], *, drawn: bool) -> str:
    """The page that consent is asked on: whose originals would be deleted."""
    page = Page(drawn=drawn)
    size = size_in_words(sum(each.size for each in chosen))
    page.answer(f"{count_of(len(chosen), 'restoration')} would become final; their kept originals take up {size}.")
    page.blank()
    rows = [(str(k.entry.number), f"{k.entry.started_at:%Y-%m-%d %H:%M}", k.entry.program) for k in chosen]
    page.columns(rows, heads=("no.", "begun (UTC)", "program"))
    return page.text()


def history_text(
    entries: Sequence[JournalEntry], kept: Sequence[Kept], lost: Sequence[Originals], machine: Machine, *, drawn: bool
) -> str:
    """The page of all restorations, the newest first."""
    page = Page(drawn=drawn)
    unfinished = [entry for entry in entries if entry.is_unfinished]
    if not entries:
        page.answer(f"Nothing has been restored on {machine.title}.", good=not lost)
        _tell_lost(page, lost, machine)
        return page.text()
    if unfinished:
        page.answer(
            f"Restoration {unfinished[0].number} is not finished: it was interrupted, or is running now.", good=False
        )
    else:
        standing = sum(entry.state is RestorationState.DONE for entry in entries)
        page.answer(f"{count_of(len(entries), 'restoration')} on {machine.title}; {standing} in force.")
    page.blank()
    page.columns(
        [
            (str(e.number), f"{e.started_at:%Y-%m-%d %H:%M}", str(e.state), _steps(e), e.program)
            for e in reversed(entries)
        ],
        heads=("no.", "begun (UTC)", "state", "changed", "program"),
    )
    reasons = [(str(e.number), e.because) for e in reversed(entries) if e.because]
    if reasons:
        page.heading("Versions that were asked for, and why")
        page.columns(reasons)
    size = sum(each.size for each in kept)
    if size > _MOST_KEPT:
        page.blank()
        page.line(f"The originals that are kept take up {size_in_words(size)}. To delete old ones:")
        page.raw(command(machine, "history", "--clean"))
    _tell_lost(page, lost, machine)
    if unfinished:
        page.heading("Next")
        if unfinished[0].state is RestorationState.UNDER_WAY:
            page.raw(command(machine, "resume"))
            page.line("continues it. To undo it instead:")
        page.raw(command(machine, "undo", str(unfinished[0].number)))
    return page.text()


def _tell_lost(page: Page, lost: Sequence[Originals], machine: Machine) -> None:
    """Originals that cannot be restored any more, for their journal is gone."""
    if lost:
        page.heading("Originals whose journal is gone")
        page.columns([(f"{each.begun:%Y-%m-%d %H:%M}", each.restoration.program, each.folder) for each in lost])
        page.line("To take them in, so that they can be undone:")
        page.raw(command(machine, "history", "--take-in"))


def _would_be_done(plan: Plan) -> str:
    steps = [f"{verb} {what}" for verb, what in _counted_steps(plan)]
    return f"This will {', and '.join(steps)}"


def _was_done(plan: Plan) -> str:
    return ", ".join(f"{what} {_DONE[verb]}" for verb, what in _counted_steps(plan, with_size=False))


def _counted_steps(plan: Plan, *, with_size: bool = True) -> Iterator[tuple[str, str]]:
    """The steps of a plan, each kind as (verb, count and noun)."""
    if plan.installs is not None:
        yield "install", count_of(len(plan.installs.packages), "package")
    if plan.moved:
        yield "set aside", count_of(len(plan.moved), "file")
    if plan.rights:
        yield "change", f"the rights of {count_of(len(plan.rights), 'entry', 'entries')}"
    if plan.folders:
        yield "make", count_of(len(plan.folders), "folder")
    if links := sum(bool(step.link) for step in (*plan.placed, *plan.own)):
        yield "make", count_of(links, "link")
    if files := sum(not step.link for step in plan.placed):
        yield "place", count_of(files, "file") + (f" ({size_in_words(plan.size)})" if with_size else "")
    if changed := sum(not step.link for step in plan.own):
        yield "change", count_of(changed, "file")


def _plan(page: Page, plan: Plan) -> None:
    if plan.moved:
        page.heading("Set aside, so that the right one is found")
        for move in plan.moved:
            page.field("set aside", f"{move.path}   ({move.because})", indent=4, width=11)
    _rights(page, plan.rights)
    _own_steps(page, plan.own)
    if plan.installs is not None:
        page.heading("By the system's package manager; nothing else is upgraded or removed")
        for each in plan.installs.packages:
            page.field("install", f"{each.name} {each.version}   ({plan.installs.because})", indent=4, width=9)
    for source, package in plan.packages:
        folders = [step for step in plan.folders if step.package == package]
        steps = [step for step in plan.placed if step.package == package]
        if folders or steps:  # another's files are all sound, and it mends nothing
            _package(page, source, package, folders, steps)
    if plan.other_width is not None:
        page.line(f"Both 32-bit and 64-bit files are restored, because {plan.other_width} needs the other ones.")


def _rights(page: Page, steps: Sequence[ChangeRights]) -> None:
    if steps:
        page.heading("Rights that the program needs")
    for step in steps:
        page.field("rights", f"{step.path}   ({step.because})", indent=4, width=9)
        for detail in step.preview_details:
            page.line(detail, 13)


def _own_steps(page: Page, steps: Sequence[Change]) -> None:
    if steps:
        page.heading("With what the machine has")
    for step in steps:
        page.field("link" if step.link else "change", f"{step.path}   ({step.because})", indent=4, width=9)
        for detail in step.preview_details:
            page.line(detail, 13)


def _package(
    page: Page,
    source: Source,
    package: Package,
    folders: Sequence[PlaceFolder],
    steps: Sequence[PlaceFile | PlaceLink],
) -> None:
    """Add the files of a package that are placed, and those that are right already."""
    page.heading(package.title_and_publisher)
    page.line(_whence(source, package))
    for folder in folders:
        page.field("make", f"{folder.path}/   ({folder.because})", indent=4, width=9)
    for step in steps:
        verb = "link" if step.link else "replace" if step.replaces else "place"
        page.field(verb, f"{step.path}   ({step.because})", indent=4, width=9)
    touched = {step.wanted[1] for step in steps if step.wanted is not None}
    names = list(dict.fromkeys(file.name for file in package.files if file not in touched))
    if names:
        page.field("leave", f"{some_of(names, _MOST_NAMES)}   (verified)", indent=4, width=9)


def _whence(source: Source, package: Package) -> str:
    if source.kind is SourceKind.ARCHIVE:
        return f"from {source.name}, proven by the archive's signature, as apt checks it"
    if source.kind in {SourceKind.MEDIA, SourceKind.REFERENCE}:
        return f"from {source.name}; proof: {package.proven_by}"
    vouched = f"; verified by {package.proven_by}" if package.proven_by else ""
    return f"from the source {source.name}, proven by its signatures just now{vouched}"


def _add_launch(page: Page, restoration: Restoration[Traces], machine: Machine) -> None:
    """How the program's run ended, if it was run, with what it wrote."""
    if restoration.launched is not None:
        name = machine.paths.basename(restoration.prepared.work.program)
        page.heading(f"{name} was run: {restoration.launched.outcome}")
        for line in restoration.launched.output.splitlines():
            page.raw(line)


def _after_rehearsal(rehearsal: Rehearsal, machine: Machine, options: Sequence[str], more: Sequence[str]) -> str:
    if not rehearsal.is_needed:
        return next_step(rehearsal.before.traces[0], machine)
    if rehearsal.harmed:
        return "Find a version that serves all of them: fundamen sources offers NEED"
    if not rehearsal.plan.is_empty:
        return change_command(machine, "restore", "--yes", *options, rehearsal.plan.program, *more)
    brought = dict.fromkeys(fault.brought_by[0] for fault in rehearsal.after.faults if fault.brought_by)
    if brought:
        installing = (word for name in brought for word in ("--install", name))
        return change_command(machine, "restore", *installing, *options, rehearsal.plan.program, *more)
    if any(unmet.why.code == "restore.no-source-is-trusted-yet" for unmet in rehearsal.plan.unmet):
        return "fundamen sources trust PLACE --fingerprint FINGERPRINT"
    name = next((u.name for u in rehearsal.plan.unmet), "NAME")
    return command(machine, "sources", "offers", name) if name else str(Verdict.MISSING)
