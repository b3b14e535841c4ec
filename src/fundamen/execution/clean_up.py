"""Delete kept originals that are not needed any more: the restorations they belong to cannot be undone then.

Guarantees: never those of the newest restoration, nor of one that is not finished; that a restoration stands for good
is written down before the first of its originals goes, so none is ever missing where an undo is still offered.
"""

from collections.abc import Sequence
from datetime import datetime, timedelta

import msgspec

from fundamen.execution.journal import STANDING, Journal, JournalEntry, RestorationState
from fundamen.execution.locking import alone_on, require_finished
from fundamen.execution.originals import give_up, size_of
from fundamen.machine.machine import Machine


class Kept(msgspec.Struct, frozen=True):
    """A restoration with what its originals take up."""

    entry: JournalEntry
    size: int  # bytes


def find_kept(journal: Journal) -> tuple[Kept, ...]:
    """The restorations that can still be undone, the oldest first. Raises: UnreadableError."""
    return tuple(Kept(entry, size_of(journal, entry)) for entry in journal.entries(STANDING))


def choose_for_good(kept: Sequence[Kept], now: datetime, older_than: timedelta, most: int | None) -> tuple[Kept, ...]:
    """Which may stand for good: those that are old enough, and the oldest as long as all together take up too much.

    Args:
        kept: as ``find_kept`` gives them.
        now: this moment.
        older_than: how long ago a restoration must have begun.
        most: bytes that the originals may take up; None for any number.
    """
    chosen = []
    left = sum(each.size for each in kept)
    for each in kept[:-1]:  # never the newest
        if each.entry.state is not RestorationState.DONE:
            continue
        if now - each.entry.started_at > older_than or (most is not None and left > most):
            chosen.append(each)
            left -= each.size
    return tuple(chosen)


def let_stand(machine: Machine, journal: Journal, chosen: Sequence[Kept]) -> None:
    """Delete the originals of some restorations.

    Raises:
        UnfinishedError: another Fundamen is at work, or a restoration was interrupted.
        OSError: an original cannot be removed; nothing that is still offered is lost.
    """
    with alone_on(machine):
        require_finished(machine, journal)
        for each in chosen:
            journal.mark(each.entry.number, RestorationState.FOR_GOOD)
        for entry in journal.entries({RestorationState.FOR_GOOD}):  # also what an earlier clean-up has left
            _remove(journal, entry)


def _remove(journal: Journal, entry: JournalEntry) -> None:
    site = journal.site
    site.ground.forget()
    for step in entry.steps:
        step.record.give_up(site)
    give_up(journal, entry)
