"""A certificate authority of a directory as text: what is not right, and how a program that waits for it continues."""

from collections.abc import Sequence

from fundamen.certificate_authorities.examining import AuthorityState
from fundamen.prerequisites.answer import RequirementStanding
from fundamen.report.page import Page, count_of

_WIDTH = 9


def authority_text(state: AuthorityState, directory: str, following: Sequence[str], *, drawn: bool) -> str:
    """The page."""
    page = Page(drawn=drawn)
    faults = state.faults
    page.answer(_answer(state, directory), good=not faults)
    page.blank()
    for finding in state.findings:
        standing = RequirementStanding.MET if finding.is_right else RequirementStanding.UNMET
        word = "right" if finding.is_right else "not right"
        page.verdict(standing, finding.about, word=word, width=_WIDTH + 2)
        page.line(finding.found, indent=6)
    page.heading("Going on")
    page.line(state.resuming)
    if following:
        page.heading("Next")
        for step in following:
            page.step(step)
    return page.text()


def _answer(state: AuthorityState, directory: str) -> str:
    about = f"The authority {state.wanted.entry} of {directory}"
    if not state.faults:
        return f"{about} is as it must be."
    named = ", ".join(finding.about for finding in state.faults)
    return f"{about}: {count_of(len(state.faults), 'thing')} not right: {named}."
