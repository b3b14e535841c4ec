"""Cases as text: one, many, the ladder, what helped before."""

from collections.abc import Sequence
from datetime import datetime

from fundamen.cases.ladder import Ladder, Rung
from fundamen.cases.searching import FoundCase, what_helped
from fundamen.cases.store import Case, CaseEntry, EntryType, RemedyOutcome
from fundamen.report.page import Page, count_of, shorten

_MOST_ENTRIES = 12
_OUTCOMES = {
    RemedyOutcome.HELPED: "it helped",
    RemedyOutcome.NOTHING: "it changed nothing",
    RemedyOutcome.WORSE: "it made it worse",
}


def case_text(case: Case, *, verbose: bool) -> str:
    """The page for one case."""
    page = Page(drawn=False)
    page.answer(f"Case {case.number}: {case.title}", good=None)
    page.line(_state(case))
    shown = case.entries if verbose else case.entries[-_MOST_ENTRIES:]
    if case.entries:
        page.heading("Notes, commands and remedies")
    if len(shown) < len(case.entries):
        page.line(f"{len(case.entries) - len(shown)} earlier entries; --verbose shows all.")
    first = len(case.entries) - len(shown) + 1
    page.columns(
        [(str(first + n), _when(entry.at), _entry_words(entry, verbose=verbose)) for n, entry in enumerate(shown)]
    )
    if case.is_open:
        page.heading("Next")
        page.raw("fundamen case next")
    return page.text()


def opened_text(case: Case, alike: Sequence[FoundCase]) -> str:
    """The page for an opened case."""
    page = Page(drawn=False)
    page.answer(f"Case {case.number} is open: {case.title}")
    page.line("Each command of Fundamen is recorded in it from now on, without passwords and keys.")
    if alike:
        page.heading("Past cases like it")
        _add_found(page, alike)
    page.heading("Next")
    page.raw("fundamen clues LOG    (or: fundamen clues --text 'the message')")
    return page.text()


def list_text(cases: Sequence[Case], current: Case | None) -> str:
    """The list of cases."""
    page = Page(drawn=False)
    if not cases:
        page.answer("No case is recorded.")
        page.heading("Next")
        page.raw("fundamen case open 'what is wrong'")
        return page.text()
    open_cases = sum(case.is_open for case in cases)
    page.answer(f"{count_of(len(cases), 'case')}, {open_cases} of them open.")
    page.blank()
    page.columns(
        [
            (str(case.number), _when(case.opened_at), _short_state(case, current), case.title)
            for case in cases
        ],
        ("", "opened (UTC)", "state", "what is wrong"),
    )  # fmt: skip
    return page.text()


def found_text(found: Sequence[FoundCase]) -> str:
    """The page of a search."""
    page = Page(drawn=False)
    helped = [each for each in found if each.helped]
    if not found:
        page.answer("No past case is like this one.")
        return page.text()
    if helped:
        page.answer(f"This helped before: {helped[0].helped[0]} (case {helped[0].case.number}).")
    else:
        page.answer(f"{count_of(len(found), 'case is', 'cases are')} like it; none of them says what helped.")
    page.heading("Past cases like it")
    _add_found(page, found)
    page.heading("Next")
    page.raw(f"fundamen case show {(helped or list(found))[0].case.number}")
    return page.text()


def ladder_text(case: Case, ladder: Ladder) -> str:
    """The ladder of a case."""
    page = Page(drawn=False)
    if ladder.next is not None:
        page.answer(f"Next: {ladder.next.do}")
        _add_rung(page, ladder.next)
    elif not case.is_open or RemedyOutcome.HELPED in case.tried.values():
        page.answer(f"Case {case.number} is solved: {'; '.join(what_helped(case)) or 'it is closed'}.", good=True)
    else:
        page.answer("Every remedy that is known here was tried; hand it on.", good=False)
        page.raw("fundamen handoff")
    page.heading(f"The ladder, from harmless to drastic, for the symptom '{ladder.about}'")
    page.columns(
        [(_step(rung, ladder.next), rung.remedy.id, rung.do) for rung in ladder.rungs], ("", "remedy", "what is done")
    )
    return page.text()


def tried_text(case: Case, ladder: Ladder, outcome: RemedyOutcome) -> str:
    """The page after the result of a remedy was recorded."""
    page = Page(drawn=False)
    if outcome is RemedyOutcome.HELPED:
        page.answer("Recorded: it helped.", good=True)
        page.heading("Next")
        page.raw(f"fundamen case close --helped '{shorten(what_helped(case)[-1], 60)}'")
        return page.text()
    page.answer(
        f"Recorded: {_OUTCOMES[outcome]}.{' Undo it first: fundamen undo.' if outcome is RemedyOutcome.WORSE else ''}"
    )
    if ladder.next is not None:
        page.heading("Next")
        page.line(ladder.next.do)
        _add_rung(page, ladder.next)
    return page.text()


def _add_rung(page: Page, rung: Rung) -> None:
    if rung.command:
        page.raw(rung.command)
    page.field("proves", rung.remedy.proves, indent=2)
    for need in rung.remedy.needs:
        page.field("needs", need, indent=2)
    if rung.remedy.disturbs:
        page.field("then", f"fundamen case tried {rung.remedy.id} --helped (or --nothing, --worse)", indent=2)


def _step(rung: Rung, following: Rung | None) -> str:
    if rung.outcome is not None:
        return _OUTCOMES[rung.outcome]
    if rung.was_run:
        return "was run"
    return "next" if following is not None and rung.remedy.id == following.remedy.id else ""


def _add_found(page: Page, found: Sequence[FoundCase]) -> None:
    for each in found:
        page.line(f"Case {each.case.number}, {_when(each.case.opened_at)}: {each.case.title}")
        page.field("helped", "; ".join(each.helped) or "nothing is recorded", indent=4)


def _entry_words(entry: CaseEntry, *, verbose: bool) -> str:
    if entry.kind is EntryType.COMMAND:
        answer = entry.facts.answer or f"status {entry.facts.status}"
        return f"$ {entry.text}: {answer if verbose else shorten(answer, 120)}"
    if entry.facts.outcome is not None:
        return f"tried: {entry.text} ({_OUTCOMES[entry.facts.outcome]})"
    return f"noted: {entry.text}"


def _state(case: Case) -> str:
    since = f"On {case.machine}, since {_when(case.opened_at)} UTC"
    if case.closed_at is None:
        return f"{since}; it is open."
    ended = f"closed {_when(case.closed_at)}"
    return f"{since}, {ended}. Solved by: {case.helped}" if case.helped else f"{since}, {ended}. Nothing helped."


def _short_state(case: Case, current: Case | None) -> str:
    if case.is_open:
        return "in hand" if current is not None and current.id == case.id else "open"
    return "solved" if case.helped else "unsolved"


def _when(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%d %H:%M")
