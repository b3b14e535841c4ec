"""Bring back from a reference what has vanished from a tree or differs in it; what is extra is left alone."""

import os

from fundamen.changes.base import MISSING, Work
from fundamen.changes.files import Change
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UntrustedError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import digest_of_file
from fundamen.restore.restoration import Prepared
from fundamen.sources.reference import DifferenceKind, ReferenceComparison, ReferenceDifference, compare_with


def plan_from_reference(machine: Machine, folder: MachinePath, comparison: ReferenceComparison) -> Work:
    """Plan the steps after which a tree is as its baseline, as far as the reference can give it.

    A file of which only the mode differs is rewritten as well, so that it has the recorded one.
    """
    baseline = comparison.baseline
    steps, contents = [], {}
    for each in comparison.restorable:
        recorded = baseline.entries[each.path]
        path = machine.join(folder, *each.path.split("/"))
        if recorded.link and each.finding is not DifferenceKind.VANISHED:
            continue  # something stands where the link should: that is for a person to look at
        steps.append(
            Change(
                path=path,
                because=MISSING if each.finding is DifferenceKind.VANISHED else each.detail,
                sha256=recorded.sha256,
                size=recorded.size,
                mode=recorded.mode,
                link=recorded.link,
                keeps_mode=False,
            )
        )
        if not recorded.link:
            contents[recorded.sha256] = HostPath(os.path.join(baseline.location, *each.path.split("/")))
    return Work(
        folder, (say("restore.files-from-the-reference", count=len(steps), name=baseline.name),), tuple(steps), contents
    )


def prepare_reference(
    machine: Machine, folder: MachinePath, comparison: ReferenceComparison
) -> Prepared[ReferenceComparison]:
    """It as it is performed, and proven by comparing again. Where the reference has changed, nothing is begun."""
    work = plan_from_reference(machine, folder, comparison)
    return Prepared(
        work=work,
        before=comparison,
        prove=lambda _machine: compare_with(comparison.baseline, HostPath(comparison.tree)),
        make_ready=lambda: _require_unchanged(work),
        lacks_remedy=bool(comparison.at_fault) and not work.steps,
    )


def _require_unchanged(work: Work) -> None:
    for sha256, content in work.contents.items():
        if digest_of_file(content) != sha256:
            raise UntrustedError(
                what=say("restore.the-reference-is-not-used"),
                why=say("restore.has-changed-since-it-was-compared", content=printable(content)),
                do=say("restore.nothing-was-written-compare-again-fundamen"),
            )


def left_to_people(comparison: ReferenceComparison) -> tuple[ReferenceDifference, ...]:
    """Differences that are not brought back."""
    entries = comparison.baseline.entries
    return tuple(
        each
        for each in comparison.at_fault
        if each not in comparison.restorable
        or (entries[each.path].link and each.finding is not DifferenceKind.VANISHED)
    )
