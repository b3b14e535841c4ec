"""Bring back from a reference what has vanished from a tree or differs in it; what is extra is left alone."""

import os
from datetime import datetime

import msgspec

from fundamen.changes.base import MISSING, Work
from fundamen.changes.files import Change
from fundamen.execution.carrying_out import Progress, carry_out
from fundamen.execution.journal import Journal
from fundamen.execution.locking import alone_on, require_finished
from fundamen.machine.machine import Machine
from fundamen.model.errors import UntrustedError
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.placing.file_state import digest_of_file
from fundamen.sources.reference import Comparison, Difference, Finding, compare_with


class TreeRestoration(msgspec.Struct, frozen=True):
    """What was compared and, where it was carried out, what came of it."""

    before: Comparison
    number: int | None = None  # in the journal; None where nothing was carried out
    proof: Comparison | None = None  # compared again afterwards

    @property
    def remaining(self) -> int:
        """How many entries are at fault now."""
        return len((self.proof or self.before).at_fault)


def plan_from_reference(machine: Machine, folder: MachinePath, comparison: Comparison) -> Work:
    """What is to be written so that a tree is as its baseline, as far as the reference can give it.

    A file of which only the mode differs is written anew as well, so that it has the recorded one.
    """
    baseline = comparison.baseline
    steps, contents = [], {}
    for each in comparison.restorable:
        recorded = baseline.entries[each.path]
        path = machine.join(folder, *each.path.split("/"))
        if recorded.link and each.finding is not Finding.VANISHED:
            continue  # something stands where the link should: that is for a person to look at
        steps.append(
            Change(
                path=path,
                because=MISSING if each.finding is Finding.VANISHED else each.detail,
                sha256=recorded.sha256,
                size=recorded.size,
                mode=recorded.mode,
                link=recorded.link,
                keeps_mode=False,
            )
        )
        if not recorded.link:
            contents[recorded.sha256] = HostPath(os.path.join(baseline.location, *each.path.split("/")))
    return Work(folder, (f"{len(steps)} files from the reference {baseline.name}",), tuple(steps), contents)


def perform_from_reference(
    machine: Machine, folder: MachinePath, comparison: Comparison, journal: Journal, now: datetime, progress: Progress
) -> TreeRestoration:
    """Carry it out, and compare again.

    Raises:
        UntrustedError: the reference has changed since it was compared; nothing was written.
        UnfinishedError: another Fundamen is at work, or an earlier restoration was cut off.
        RestorationError: it failed and was taken back.
    """
    work = plan_from_reference(machine, folder, comparison)
    for sha256, content in work.contents.items():
        if digest_of_file(content) != sha256:
            raise UntrustedError(
                what="The reference is not used",
                why=f"{shown(content)} has changed since it was compared",
                do="Nothing was written. Compare again: fundamen sources compare",
            )
    with alone_on(machine):
        require_finished(machine, journal)
        number = carry_out(machine, work, journal, now, progress)
    return TreeRestoration(comparison, number, compare_with(comparison.baseline, HostPath(comparison.tree)))


def left_to_people(comparison: Comparison) -> tuple[Difference, ...]:
    """What is at fault and is not brought back."""
    entries = comparison.baseline.entries
    return tuple(
        each
        for each in comparison.at_fault
        if each not in comparison.restorable or (entries[each.path].link and each.finding is not Finding.VANISHED)
    )
