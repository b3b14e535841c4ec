"""Two machines side by side as text: what matters most first, each with how it is here and there."""

from fundamen.report.page import Page, count_of
from fundamen.survey.comparing import About, MachineComparison, MachineDifference

_MOST_SHOWN = 30
_MOST_NAMED = 3  # components in the answer


def compare_text(comparison: MachineComparison, *, verbose: bool, drawn: bool) -> str:
    """The page."""
    page = Page(drawn=drawn)
    differences = comparison.differences
    page.answer(answer(comparison), good=not differences and not comparison.shared_faults)
    if differences:
        page.line(f"here: {comparison.here}")
        page.line(f"there: {comparison.there}")
    decisive = [each for each in differences if each.is_decisive]
    _add(page, "Works on one and not on the other", decisive, verbose=verbose)
    for about in About:
        rest = [each for each in differences if each.about is about and not each.is_decisive]
        _add(page, f"{str(about).capitalize()}s", rest, verbose=verbose)
    if differences and comparison.shared_faults:
        page.heading("At fault on both alike")
        page.line(", ".join(comparison.shared_faults))
    if comparison.gaps:
        page.heading("Not compared")
        for gap in comparison.gaps:
            page.line(gap)
    return page.text()


def answer(comparison: MachineComparison) -> str:
    """How far the two differ, in one sentence."""
    count, decisive = len(comparison.differences), sum(each.is_decisive for each in comparison.differences)
    alike = f"; {comparison.alike} are alike" if comparison.alike else ""
    if not count:
        same = f" On both, {_list_names(comparison.shared_faults)} at fault alike." if comparison.shared_faults else ""
        return f"No difference between {comparison.here} and {comparison.there}{alike}.{same}"
    first = f", {decisive} of them at fault on one side alone" if decisive else ""
    return f"{count_of(count, 'difference')}{first}{alike}."


def _list_names(names: tuple[str, ...]) -> str:
    shown = ", ".join(names[:_MOST_NAMED])
    if len(names) > _MOST_NAMED:
        return f"{shown} and {len(names) - _MOST_NAMED} more are"
    return f"{shown} {'is' if len(names) == 1 else 'are'}"


def _add(page: Page, heading: str, differences: list[MachineDifference], *, verbose: bool) -> None:
    if not differences:
        return
    page.heading(heading)
    for each in differences if verbose else differences[:_MOST_SHOWN]:
        page.line(each.name)
        page.field("here", each.here, width=7)
        page.field("there", each.there, width=7)
    page.more(0 if verbose else len(differences) - _MOST_SHOWN)
