"""Perform what was rehearsed, or continue with what was interrupted.

Guarantees: what is replaced is kept and flushed, and the journal knows of all steps, before anything on the machine is
touched; whatever stops a restoration half-way, the journal holds enough to continue with it, or to make every entry as
it was, to the byte, with its mode, owner, times and extended attributes.
"""

import functools
import logging
import os
import shutil
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from functools import partial

from fundamen.changes.around import around
from fundamen.changes.base import Keeping, Record, Step, Tell, Work
from fundamen.execution.hindrance import require_unhindered
from fundamen.execution.journal import (
    Journal,
    JournalEntry,
    JournalStep,
    RestorationRecord,
    RestorationState,
    StepState,
)
from fundamen.execution.making import batches, by_kind, make
from fundamen.execution.originals import give_up, write_list
from fundamen.execution.taking_back import cause_of, require_unchanged, take_back_steps
from fundamen.machine.machine import Machine
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, RestorationError, UnfinishedError, UnreadableError, UsageError
from fundamen.model.paths import MachinePath
from fundamen.model.timing import log_time
from fundamen.placing.flushing import make_lasting

_LOG = logging.getLogger(__name__)

_SPARE_BYTES = 1 << 20  # for folders and the journal itself

Progress = Callable[[MachinePath], None]
Stop = Callable[[], bool]  # whether someone has asked that no further step be begun


def carry_out(
    machine: Machine,
    work: Work,
    journal: Journal,
    now: datetime,
    progress: Progress = lambda _path: None,
    stop: Stop = lambda: False,
    tell: Tell = lambda _sentence: None,
) -> int:
    """Do all steps of some work, and give the restoration's number in the journal.

    The caller holds the machine with ``alone_on`` and has asked ``require_finished``.

    Raises:
        RestorationError: a step failed; all steps were undone. Also when there is too little room, or something
            that the system tells beforehand stands in the way; then nothing was changed.
        UnfinishedError: it was stopped; it can be resumed, or undone.
    """
    site = journal.site
    site.ground.forget()
    try:
        targets = [(step, step.place(machine)) for step in work.steps]
        written = [(step.path, target) for step, target in targets if step.writes_file]
        vacated = frozenset(site.location(target) for step, target in targets if step.vacates)
        vacated &= {site.location(target) for _, target in written}
        require_unhindered(machine, [each for each in written if site.location(each[1]) not in vacated])
        _require_room(journal, targets)
    except OSError as error:
        raise RestorationError(
            what=say("execution.the-restoration-was-not-begun"),
            why=cause_of(error),
            do=say("execution.nothing-was-changed-see-what-is"),
        ) from error
    try:
        number = journal.next_number()
    except (OSError, UnreadableError) as error:
        raise RestorationError(
            what=say("execution.the-restoration-was-not-begun"),
            why=say("execution.its-journal-cannot-be-written", cause_of=cause_of(error)),
            do=say("execution.nothing-was-changed-make-fundamen-own"),
        ) from error
    try:
        kept_folder = journal.kept_folder(number)
        shutil.rmtree(kept_folder, ignore_errors=True)  # of one that was interrupted before it was written down
        make_lasting(kept_folder)
        look = functools.cache(partial(around, site))  # nothing of the machine is changed while originals are kept
        records = [
            step.keep(Keeping(site, target, work.contents, kept_folder, index, look, vacated))
            for index, (step, target) in enumerate(targets)
        ]
        for kind, alike in by_kind(records):
            kind.settle_kept(alike, site)
        restoration = RestorationRecord(work.program, work.titles, work.further, work.because)
        write_list(kept_folder, now, restoration, records)
        entry = journal.begin(restoration, now, records)
    except (OSError, KeyboardInterrupt, UnreadableError) as error:
        raise _not_begun(journal, number, error) from error
    _LOG.debug("restoration %d is written down: %d steps", number, len(records))
    _make_all(journal, entry, entry.steps, progress, stop, tell)
    return number


def find_unsettled(journal: Journal, number: int) -> tuple[MachinePath, ...]:
    """Restored files that are not as they were placed any more. Raises: UnreadableError."""

    def stands(record: Record) -> bool:
        try:
            return record.is_made(journal.site)
        except OSError:
            return False

    entry = journal.find(number)
    steps = entry.steps if entry is not None else ()
    return tuple(step.record.path for step in steps if not stands(step.record))


def resume(
    journal: Journal,
    progress: Progress = lambda _path: None,
    stop: Stop = lambda: False,
    tell: Tell = lambda _sentence: None,
) -> JournalEntry:
    """Resume the restoration that was interrupted; the caller holds the machine.

    Raises:
        UsageError: none was interrupted, or it is one that was being undone.
        RestorationError: an entry has changed since, and nothing was done; or a step failed, and all were undone.
        UnfinishedError: it was stopped again.
    """
    entry = journal.cut_off()
    if entry is None:
        raise UsageError(
            what=say("execution.there-is-nothing-to-resume"),
            why=say("execution.no-restoration-of-this-machine-was"),
            do=say("execution.see-what-was-done-with-fundamen"),
        )
    if entry.state is RestorationState.UNDOING:
        raise UsageError(
            what=say("execution.restoration-cannot-be-resumed", number=entry.number),
            why=say("execution.it-was-interrupted-while-it-was"),
            do=say("execution.undo-it-to-the-end-fundamen", number=entry.number),
        )
    site = journal.site
    require_unchanged(site, entry, "resumed")
    left = [step for step in entry.steps if step.state is not StepState.PLACED and not step.record.is_made(site)]
    if not all(step.record.has_original(site) for step in left):
        raise RestorationError(
            what=say("execution.restoration-cannot-be-resumed", number=entry.number),
            why=say("execution.its-kept-originals-are-gone-so"),
            do=say("execution.nothing-was-changed-undo-it-fundamen", number=entry.number),
        )
    _make_all(journal, entry, left, progress, stop, tell)
    return entry


def _not_begun(journal: Journal, number: int, error: BaseException) -> FundamenError:
    """Nothing of the machine was changed; but the journal may know of the restoration although writing it down failed.

    Then it must say that it is undone before the originals go: it could be resumed otherwise.
    """
    try:
        entry = journal.find(number)
        if entry is not None and entry.is_unfinished:
            journal.mark(number, RestorationState.TAKEN_BACK)
    except (OSError, KeyboardInterrupt, UnreadableError) as second:
        # Whether it was written down cannot be known now, so the originals stay: the next run finds out.
        return RestorationError(
            what=say("execution.the-restoration-was-not-begun"),
            why=say("execution.then", cause_of=cause_of(error), other_cause_of=cause_of(second)),
            do=say("execution.nothing-was-changed-mend-that-then"),
        )
    shutil.rmtree(journal.kept_folder(number), ignore_errors=True)
    return RestorationError(
        what=say("execution.the-restoration-was-not-begun"),
        why=cause_of(error),
        do=say("execution.nothing-was-changed-mend-that-then-restore"),
    )


def _make_all(
    journal: Journal, entry: JournalEntry, steps: Iterable[JournalStep], progress: Progress, stop: Stop, tell: Tell
) -> None:
    try:
        for batch in batches(steps):
            if stop():
                raise _stop_error(entry.number, say("execution.you-asked-for-it"))
            for step in batch:
                progress(step.record.path)
            with log_time(_LOG, "making %s", ", ".join(step.record.path for step in batch)):
                journal.write_steps(entry.number, make(journal.site, batch, tell))
        journal.mark(entry.number, RestorationState.DONE)
        _LOG.debug("restoration %d is done", entry.number)
    except KeyboardInterrupt as error:
        raise _stop_error(entry.number, cause_of(error)) from error
    except (OSError, UnreadableError) as error:
        raise _taken_back(journal, entry, error) from error


def _require_room(journal: Journal, targets: Sequence[tuple[Step, Place]]) -> None:
    """Look that there is room before anything is changed: for the new files, and for what is kept."""
    by_folder: dict[str, int] = {}
    for step, target in targets:
        beside, kept = step.room(target)
        by_folder[target.folder.host] = by_folder.get(target.folder.host, 0) + beside
        by_folder[journal.folder] = by_folder.get(journal.folder, 0) + kept
    needed: dict[int, tuple[str, int]] = {}
    for wanted, size in by_folder.items():
        folder = wanted
        while not os.path.isdir(folder):
            folder = os.path.dirname(folder)
        device = os.stat(folder).st_dev
        needed[device] = (folder, needed.get(device, ("", _SPARE_BYTES))[1] + size)
    for folder, size in needed.values():
        free = shutil.disk_usage(folder).free
        if free < size:
            raise RestorationError(
                what=say("execution.the-restoration-was-not-begun"),
                why=say(
                    "execution.has-mib-free-and-mib-are",
                    folder=printable(folder),
                    free=free >> 20,
                    size=(size >> 20) + 1,
                ),
                do=say("execution.nothing-was-changed-make-room-then"),
            )


def _stop_error(number: int, why: str) -> UnfinishedError:
    return UnfinishedError(
        what=say("execution.restoration-was-stopped", number=number),
        why=say("execution.each-file-is-either-old-or", why=why),
        do=say("execution.resume-it-fundamen-resume-or-undo", number=number),
    )


def _taken_back(journal: Journal, entry: JournalEntry, error: BaseException) -> FundamenError:
    """Take a failed restoration back, and say how that went. The journal itself may be what fails."""
    cause, number = cause_of(error), entry.number
    try:
        with log_time(_LOG, "taking restoration %d back, since %s", number, cause):
            take_back_steps(journal, entry)
        journal.mark(number, RestorationState.TAKEN_BACK)
    except (OSError, KeyboardInterrupt, UnreadableError) as second:
        return UnfinishedError(
            what=say("execution.restoration-failed-and-could-not-be", number=number),
            why=say("execution.then", cause_of=cause, other_cause_of=cause_of(second)),
            do=say("execution.the-originals-are-kept-repair-the", number=number),
        )
    give_up(journal, entry)
    return RestorationError(
        what=say("execution.the-restoration-failed-and-was-undone"),
        why=cause,
        do=say("execution.every-file-is-as-it-was"),
    )
