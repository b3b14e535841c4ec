"""A lock file against the files that lie there, as text."""

import shlex

from fundamen.formats.lock_file import LockFile
from fundamen.machine.machine import Machine
from fundamen.model.verdict import Verdict
from fundamen.report.commands import command
from fundamen.report.page import Page, count_of
from fundamen.sources.locks import CheckedPin, PinState, nearest

_MARKS = {
    PinState.FITS: Verdict.VERIFIED,
    PinState.AGED: Verdict.OUTDATED,
    PinState.ALTERED: Verdict.CORRUPT,
    PinState.UNKNOWN: Verdict.UNTRUSTED,
    PinState.ABSENT: Verdict.MISSING,
    PinState.NOT_LOCKED: Verdict.UNVERIFIED,
}


def lock_text(path: str, lock: LockFile, checked: tuple[CheckedPin, ...], *, drawn: bool) -> str:
    """The page of a checked lock file: what is at fault first."""
    page = Page(drawn=drawn)
    at_fault = [each for each in checked if each.is_at_fault]
    name = path.rpartition("/")[2]
    fits = sum(each.state is PinState.FITS for each in checked)
    if at_fault:
        entries = count_of(len(at_fault), "entry", "entries")
        page.answer(f"{name} ({lock.kind}): {entries} of {len(checked)} at fault.", good=False)
    else:
        compared = f"{fits} of {len(checked)} compared, and they fit" if fits else "but no file lies there to compare"
        page.answer(f"{name} ({lock.kind}): nothing at fault, {compared}.", good=True if fits else None)
    page.blank()
    for each in sorted(checked, key=lambda one: not one.is_at_fault):
        is_fit_but_unbuilt = bool(each.builds) and each.state in {PinState.FITS, PinState.ABSENT}
        mark, word = (Verdict.BLOCKED, "no build") if is_fit_but_unbuilt else (_MARKS[each.state], str(each.state))
        page.verdict(mark, f"{each.entry.name} {each.entry.version}", word=word)
        if each.detail:
            page.line(each.detail, 6)
        if each.builds:
            near = nearest(each)
            has = (
                f"versions that have one: {', '.join(each.builds)}; the nearest is {near}"
                if near
                else "nor has any other"
            )
            page.line(f"this version has no build for the processor; {has}", 6)
    aged = next((each for each in at_fault if each.state is PinState.AGED), None)
    if aged is not None:
        page.heading("Next")
        page.raw(f"fundamen locks refresh {shlex.quote(path)} {shlex.quote(aged.entry.name)} --artefacts FOLDER")
    return page.text()


def refreshed_text(checked: CheckedPin, machine: Machine, number: int | None, *, drawn: bool) -> str:
    """The page after an entry was refreshed, or its refreshing was rehearsed."""
    page = Page(drawn=drawn)
    name = f"{checked.entry.name} {checked.entry.version}"
    if number is None:
        page.answer(f"The entry {name} would be refreshed: {checked.detail}.")
        return page.text()
    page.answer(f"Refreshed: the entry {name} has the digest of the verified file now.", good=True)
    page.heading("To undo it")
    page.raw(command(machine, "undo", str(number)))
    return page.text()
