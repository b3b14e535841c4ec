"""Cold copies as text: taken, listed, checked, brought back."""

from collections.abc import Sequence

from fundamen.cold_copies.manifest import ColdCopy
from fundamen.machine.machine import Machine
from fundamen.model.verdict import Verdict
from fundamen.report.commands import command
from fundamen.report.page import Page, count_of, size_in_words
from fundamen.restore.from_copy import CopyPlan, Differing
from fundamen.restore.restoration import Restoration

_MOST_SHOWN = 40


def taken_text(copy: ColdCopy, machine: Machine, *, drawn: bool) -> str:
    """The page after a copy was taken."""
    page = Page(drawn=drawn)
    links = f" and {count_of(copy.link_count, 'link')}" if copy.link_count else ""
    files = f"{count_of(copy.file_count, 'file')}{links}, {size_in_words(copy.size)}"
    page.answer(f"Cold copy {copy.number} of {copy.folder} is taken: {files}, read back and compared.", good=True)
    page.blank()
    page.field("packed", size_in_words(copy.archive_size), 2)
    page.field("SHA-256", copy.archive_sha256, 2)
    if copy.unquiet:
        page.heading("Changed while they were copied: they may be in it by halves")
        page.columns([(path,) for path in copy.unquiet[:_MOST_SHOWN]])
    if copy.left_out:
        page.heading("Left out")
        page.columns([(left.path, left.why) for left in copy.left_out[:_MOST_SHOWN]])
    page.heading("To bring it back")
    page.raw(command(machine, "cold-copies", "restore", str(copy.number)))
    return page.text()


def list_text(copies: Sequence[ColdCopy], machine: Machine, *, drawn: bool) -> str:
    """The page of all copies, the newest first."""
    page = Page(drawn=drawn)
    if not copies:
        page.answer(f"There is no cold copy of a folder of {machine.title}.")
        page.heading("Next")
        page.raw(command(machine, "cold-copies", "make", "FOLDER"))
        return page.text()
    packed = size_in_words(sum(copy.archive_size for copy in copies))
    page.answer(f"{count_of(len(copies), 'cold copy', 'cold copies')} of {machine.title}, {packed} packed.")
    page.blank()
    rows = [
        (
            str(copy.number),
            f"{copy.taken_at:%Y-%m-%d %H:%M}",
            count_of(copy.file_count, "file"),
            size_in_words(copy.size),
            f"{copy.folder}   ({copy.because})" if copy.because else copy.folder,
        )
        for copy in reversed(copies)
    ]
    page.columns(rows, heads=("no.", "taken (UTC)", "holds", "size", "folder"))
    return page.text()


def checked_text(results: Sequence[tuple[ColdCopy, str]], machine: Machine, *, drawn: bool) -> str:
    """The page after copies were read back."""
    page = Page(drawn=drawn)
    damaged = sum(bool(why) for _, why in results)
    if not results:
        page.answer(f"There is no cold copy of a folder of {machine.title}.")
        return page.text()
    if damaged:
        page.answer(f"{damaged} of {count_of(len(results), 'cold copy', 'cold copies')} cannot be used.", good=False)
    else:
        all_are = f"All {len(results)} cold copies are" if len(results) > 1 else "The cold copy is"
        page.answer(f"{all_are} whole: every file compared.", good=True)
    page.blank()
    for copy, why in results:
        verdict = Verdict.CORRUPT if why else Verdict.VERIFIED
        page.verdict(verdict, f"no. {copy.number}, {copy.folder}")
        if why:
            page.field("because", why)
    return page.text()


def rehearsal_text(
    planned: CopyPlan,
    machine: Machine,
    parts: Sequence[str],
    *,
    drawn: bool,
    exactly: bool,
    only_rehearse: bool,
) -> str:
    """The page that consent is asked on: what differs, and what would be done; at a rehearsal also how to do it."""
    page = Page(drawn=drawn)
    copy = planned.copy
    since = f"as cold copy {copy.number} of {copy.taken_at:%Y-%m-%d %H:%M} UTC has it"
    steps = [step for step in planned.prepared.work.steps if step.is_shown]
    if not steps:
        page.answer(f"There is nothing to bring back: {copy.folder} is {since}.", good=True)
    else:
        what = count_of(len(steps), "entry", "entries")
        page.answer(f"{what} of {copy.folder} would be made {since}.")
        page.blank()
        for step in steps[:_MOST_SHOWN]:
            page.field(step.verb, f"{step.path}   ({step.because})", 2, 11)
        if len(steps) > _MOST_SHOWN:
            page.line(f"and {len(steps) - _MOST_SHOWN} more")
    if planned.extra and not exactly:
        page.blank()
        were = "was" if len(planned.extra) == 1 else "were"
        what = count_of(len(planned.extra), "entry", "entries")
        page.line(f"{what} of the folder {were} not there then; with --exactly that is set aside.")
    if steps and only_rehearse:
        page.heading("To do it")
        words = ("--exactly", str(copy.number), *parts) if exactly else (str(copy.number), *parts)
        page.raw(command(machine, "cold-copies", "restore", *words))
    return page.text()


def brought_back_text(copy: ColdCopy, restoration: Restoration[Differing], machine: Machine, *, drawn: bool) -> str:
    """The page afterwards."""
    page = Page(drawn=drawn)
    left = restoration.remaining
    rest = f"{count_of(left, 'entry', 'entries')} differ again already." if left else "compared again: nothing differs."
    page.answer(f"Brought back from cold copy {copy.number}; {rest}", good=not left)
    page.heading("To take it back")
    page.raw(command(machine, "undo", str(restoration.number)))
    return page.text()


def drop_text(copy: ColdCopy) -> str:
    """The question before a copy is deleted."""
    files = f"{count_of(copy.file_count, 'file')}, {size_in_words(copy.size)}"
    return f"Delete cold copy {copy.number} of {copy.folder} ({copy.taken_at:%Y-%m-%d %H:%M} UTC, {files})?"
