"""A sheet against a machine as text: what is unmet in the order of repair, then what is unknown."""

from collections.abc import Sequence

from fundamen.prerequisites.answer import RequirementStanding
from fundamen.prerequisites.checking import CheckedRequirement, CheckOutcome
from fundamen.prerequisites.kinds.command import CommandRequirement
from fundamen.prerequisites.requirement import Requirement
from fundamen.prerequisites.sheet import Sheet
from fundamen.report.page import Page, count_of

_LABEL = 9


def prereqs_text(sheet: Sheet, outcome: CheckOutcome, following: Sequence[str], *, verbose: bool, drawn: bool) -> str:
    """The page for one sheet."""
    page = Page(drawn=drawn)
    unmet, unknown = outcome.of(RequirementStanding.UNMET), outcome.of(RequirementStanding.UNKNOWN)
    held_up = [each for each in unknown if each.held_up_by]
    untold = [each for each in unknown if not each.held_up_by]
    page.answer(_answer(sheet, outcome), good=not unmet and not unknown)
    _add_all(page, "Not met, in the order of repair", unmet, numbered=True)
    _add_all(page, "Unknown from here", untold)
    if held_up:
        page.heading("Checked later, once what it depends on is met")
        page.columns([(each.requirement.id, f"waits for {', '.join(each.held_up_by)}") for each in held_up])
    if verbose:
        _add_all(page, "Met", outcome.of(RequirementStanding.MET))
    if verbose and outcome.left_out:
        page.heading("Does not count here")
        page.columns([(each.requirement.id, each.why) for each in outcome.left_out])
    if following:
        page.heading("Next")
        for step in following:
            page.step(step)
    return page.text()


def changes_text(changed: Sequence[CheckedRequirement], outcome: CheckOutcome, *, drawn: bool) -> str:
    """The changes since the last check, and the remaining needs."""
    page = Page(drawn=drawn)
    for each in changed:
        page.verdict(each.answer.standing, f"{each.requirement.id}: {each.answer.found}")
    left = [each.requirement.id for each in outcome.checked if each.answer.standing is not RequirementStanding.MET]
    page.line(f"Left: {', '.join(left)}" if left else "All requirements are met.")
    return page.text()


def commands_text(requirements: Sequence[Requirement]) -> str:
    """The commands that a sheet declares, to be read before any is run; empty where it has none."""
    commands = [each for each in requirements if isinstance(each, CommandRequirement)]
    if not commands:
        return ""
    page = Page(drawn=False)
    page.line(f"The sheet declares {count_of(len(commands), 'command')}:", indent=0)
    for each in commands:
        page.raw(each.in_words)
    return page.text()


def _answer(sheet: Sheet, outcome: CheckOutcome) -> str:
    count, unmet = len(outcome.checked), len(outcome.of(RequirementStanding.UNMET))
    unknown = len(outcome.of(RequirementStanding.UNKNOWN))
    if not count:
        return f"{sheet.name}: none of its requirements counts on this machine."
    if not unmet and not unknown:
        return f"{sheet.name}: {'its requirement is' if count == 1 else f'all {count} requirements are'} met."
    parts = [
        f"{unmet} of {count_of(count, 'requirement')} {'is' if unmet == 1 else 'are'} not met" if unmet else "",
        f"{unknown} {'is still unknown' if unmet else f'of {count} is unknown'}" if unknown else "",
    ]
    return f"{sheet.name}: {', and '.join(filter(None, parts))}."


def _add_all(page: Page, heading: str, all_: Sequence[CheckedRequirement], *, numbered: bool = False) -> None:
    if all_:
        page.heading(heading)
    for number, each in enumerate(all_, 1):
        _add(page, each, number if numbered else None)


def _add(page: Page, checked: CheckedRequirement, number: int | None) -> None:
    requirement = checked.requirement
    page.verdict(checked.answer.standing, requirement.id, number, width=_LABEL)
    page.field("needed", requirement.needed, width=_LABEL)
    page.field("found", checked.answer.found, width=_LABEL)
    if requirement.because:
        page.field("because", requirement.because, width=_LABEL)
    if checked.answer.standing is RequirementStanding.UNMET or requirement.remedy:
        page.field("do", requirement.remedy or requirement.advice, width=_LABEL)
    if requirement.who:
        page.field("who", requirement.who, width=_LABEL)
