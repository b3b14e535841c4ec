"""Undo a restoration: every file as it was before, to the byte, with its mode, owner, times and attributes.

Guarantees: nothing is touched where a file has changed since; an undo that was interrupted can be done again.
"""

import logging

import msgspec

from fundamen.changes.around import check_folders
from fundamen.changes.base import Site
from fundamen.execution.journal import STANDING, Journal, JournalEntry, JournalStep, RestorationState, StepState
from fundamen.execution.making import batches, obstacle, take_back
from fundamen.execution.originals import give_up
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, RestorationError, UnfinishedError, UnreadableError, UsageError
from fundamen.model.timing import log_time

_LOG = logging.getLogger(__name__)


def undo(journal: Journal, number: int | None) -> JournalEntry:
    """Undo a restoration: everything as it was before; also one that was interrupted.

    Args:
        journal: the machine's journal.
        number: which restoration; None for the latest that stands.

    Raises:
        UsageError: there is no such restoration, or a later one depends on it.
        RestorationError: a file has changed since, or what was kept of it has; nothing was undone.
        UnfinishedError: it was stopped half-way, or a file cannot be written; it can be undone again.
    """
    entry = _choose_entry(journal, number)
    require_unchanged(journal.site, entry, "undone")
    if entry.state is not RestorationState.UNDOING:
        entry = _with_folders_settled(journal, entry)
        journal.mark(entry.number, RestorationState.UNDOING)
    try:
        take_back_steps(journal, entry)
        journal.mark(entry.number, RestorationState.UNDONE)
    except (OSError, KeyboardInterrupt, UnreadableError) as error:
        raise UnfinishedError(
            what=say("execution.restoration-is-undone-only-in-part", number=entry.number),
            why=cause_of(error),
            do=say("execution.the-originals-are-kept-mend-that", number=entry.number),
        ) from error
    give_up(journal, entry)
    return entry


def require_unchanged(site: Site, entry: JournalEntry, verb: str) -> None:
    """Make sure that every step of a restoration can be made or undone. Raises: RestorationError."""
    for step in entry.steps:
        try:
            why = obstacle(site, step.record) if step.state is not StepState.TAKEN_BACK else ""
        except OSError as error:
            why = cause_of(error)
        if why:
            raise RestorationError(
                what=say("execution.restoration-cannot-be", number=entry.number, verb=verb),
                why=say("execution.has-changed-since", path=printable(step.record.path), why=why),
                do=say("execution.nothing-was-changed-set-aside-what"),
            )


def cause_of(error: BaseException) -> str:
    """The cause of a failed change, in words."""
    if isinstance(error, KeyboardInterrupt):
        return say("execution.it-was-stopped-from-the-keyboard")
    if isinstance(error, OSError):
        return f"{printable(str(error.filename or 'the machine'))}: {error.strerror}"
    return error.why if isinstance(error, FundamenError) else str(error)


def _choose_entry(journal: Journal, number: int | None) -> JournalEntry:
    standing = journal.entries(STANDING)
    if number is None and standing:
        return standing[-1]
    chosen = journal.find(number) if number is not None else None
    if chosen is None or chosen.state not in STANDING:
        why = (
            say("execution.it-is-already", state=chosen.state)
            if chosen
            else say("execution.the-journal-of-this-machine-has")
        )
        if chosen is not None and chosen.state is RestorationState.FOR_GOOD:
            why = say("execution.it-is-final-a-clean-up")
        raise UsageError(
            what=f"Restoration {number if number is not None else ''} cannot be undone".replace("  ", " "),
            why=why,
            do=say("execution.see-what-was-done-with-fundamen"),
        )
    touched = set(map(_place_of, chosen.steps))
    for later in standing:
        if later.number > chosen.number and touched & set(map(_place_of, later.steps)):
            raise UsageError(
                what=say("execution.restoration-cannot-be-undone-yet", number=chosen.number),
                why=say("execution.restoration-has-changed-the-same-files", number=later.number),
                do=say("execution.undo-that-one-first-fundamen-undo", number=later.number),
            )
    return chosen


def _with_folders_settled(journal: Journal, entry: JournalEntry) -> JournalEntry:
    """Find out, before anything is undone, which folders no one else has changed since: they get their times back.

    Written down at once, since the answer is lost with the first change. After a restoration that was interrupted it
    cannot be known, and the folders count as ours.
    """
    last_ns = {each.path: each.after_ns for step in entry.steps for each in step.record.around()}
    is_done = entry.state is RestorationState.DONE
    steps = []
    for step in entry.steps:
        folders = check_folders(journal.site, step.record.around(), last_ns, is_done=is_done)
        steps.append(JournalStep(step.number, step.state, step.record.with_around(folders)))
    journal.write_steps(entry.number, steps)
    return msgspec.structs.replace(entry, steps=tuple(steps))


def take_back_steps(journal: Journal, entry: JournalEntry) -> None:
    """Make everything of a restoration as it was, the last step first. Raises: OSError."""
    left = [step for step in entry.steps if step.state is not StepState.TAKEN_BACK]
    for batch in batches(reversed(left)):
        with log_time(_LOG, "restoration %d: undoing %s", entry.number, ", ".join(step.record.path for step in batch)):
            take_back(journal.site, batch)
        journal.write_steps(
            entry.number, (JournalStep(each.number, StepState.TAKEN_BACK, each.record) for each in batch)
        )


def _place_of(step: JournalStep) -> str:
    return step.record.place_key
