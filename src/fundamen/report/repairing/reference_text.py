"""A tree against its reference, as text."""

from collections.abc import Sequence

from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.report.commands import command
from fundamen.report.page import Page, count_of
from fundamen.restore.from_reference import left_to_people
from fundamen.restore.restoration import Restoration
from fundamen.sources.reference import Baseline, DifferenceKind, ReferenceComparison, ReferenceDifference

_MOST_SHOWN = 40
_MARKS = {
    DifferenceKind.VANISHED: Verdict.MISSING,
    DifferenceKind.DIFFERS: Verdict.CORRUPT,
    DifferenceKind.EXTRA: Verdict.UNVERIFIED,
    DifferenceKind.BARRED: Verdict.BLOCKED,
}


def comparison_text(
    comparison: ReferenceComparison, machine: Machine, folder: MachinePath, *, drawn: bool, is_first: bool
) -> str:
    """The page of a comparison: what differs, and who is at fault, the tree or the reference.

    Args:
        comparison: what was found.
        machine: whose the tree is.
        folder: the tree.
        drawn: whether the terminal can draw block marks.
        is_first: whether the restoration is still to be asked for.
    """
    page = Page(drawn=drawn)
    baseline = comparison.baseline
    at_fault, extra = comparison.at_fault, [d for d in comparison.differences if d.finding is DifferenceKind.EXTRA]
    more = f"; {count_of(len(extra), 'further file')} of its own" if extra else ""
    since = f"as the reference {baseline.name} was on {baseline.recorded_at:%Y-%m-%d %H:%M} UTC"
    if not at_fault:
        page.answer(f"{folder} is {since}, all {count_of(len(baseline.entries), 'file')}{more}.", good=True)
        return page.text()
    page.answer(f"{folder} is not {since}: {_counts(at_fault)}{more}.", good=False)
    spoilt = [each for each in at_fault if each.origin]
    if spoilt:
        page.line(f"The reference itself is at fault for {count_of(len(spoilt), 'file')}: see below.", 0)
    page.blank()
    for each in (*at_fault, *extra)[:_MOST_SHOWN]:
        page.verdict(_MARKS[each.finding], each.path, word=each.finding)
        if each.finding is DifferenceKind.DIFFERS or each.origin:
            page.line("; ".join(filter(None, (each.detail, each.origin))), 6)
    if len(comparison.differences) > _MOST_SHOWN:
        page.line(f"{len(comparison.differences) - _MOST_SHOWN} more are not shown; --json has them all.")
    if comparison.restorable and is_first:
        page.heading("Next")
        page.raw(command(machine, "references", "restore", baseline.name, folder))
    return page.text()


def references_text(baselines: Sequence[Baseline], *, drawn: bool) -> str:
    """The page of what was recorded."""
    page = Page(drawn=drawn)
    if not baselines:
        page.answer("No reference is recorded on this host.")
        page.heading("Next")
        page.raw("fundamen references record NAME FOLDER")
        return page.text()
    page.answer(f"{count_of(len(baselines), 'reference')} recorded on this host.")
    page.blank()
    rows = [(b.name, f"{b.recorded_at:%Y-%m-%d}", count_of(len(b.entries), "file"), b.location) for b in baselines]
    page.columns(rows)
    return page.text()


def restored_text(restoration: Restoration[ReferenceComparison], machine: Machine, *, drawn: bool) -> str:
    """The page after a tree was restored."""
    page = Page(drawn=drawn)
    proof = restoration.proof
    assert proof is not None  # noqa: S101 - it was performed
    brought = restoration.prepared.before.fault_count - proof.fault_count
    verb = "differs" if len(proof.at_fault) == 1 else "differ"
    rest = f" {count_of(len(proof.at_fault), 'file')} still {verb}." if proof.at_fault else " Nothing differs any more."
    page.answer(f"Restored: {count_of(brought, 'file')} as recorded, compared again.{rest}", good=not proof.at_fault)
    for each in left_to_people(proof):
        page.verdict(_MARKS[each.finding], each.path, word=each.finding)
        page.line("; ".join(filter(None, (each.detail, each.origin))), 6)
    page.heading("To undo it")
    page.raw(command(machine, "undo", str(restoration.number)))
    return page.text()


def _counts(differences: tuple[ReferenceDifference, ...]) -> str:
    found = {finding: sum(each.finding is finding for each in differences) for finding in DifferenceKind}
    words = {
        DifferenceKind.VANISHED: "vanished",
        DifferenceKind.DIFFERS: "differ",
        DifferenceKind.BARRED: "cannot be read",
    }
    words |= {DifferenceKind.DIFFERS: "differs"} if found[DifferenceKind.DIFFERS] == 1 else {}
    return ", ".join(f"{found[finding]} {word}" for finding, word in words.items() if found[finding])
