"""Make the steps of a restoration, and take them back, each by its kind.

A batch is made together: all is staged, then all is flushed and read back, then all is put in its place, then the
folders are flushed and the journal is told. Until then it knows of each step what stood there before, so a cut at any
moment leaves entries that are old or new, and can be told apart by looking.
"""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor

import msgspec

from fundamen.placing.replacing import flush_folder
from fundamen.restore import entries, folder_steps, installing, moves
from fundamen.restore.folders import after_step, give_back_times, make_folders, remove_folders
from fundamen.restore.journal import Step, StepState
from fundamen.restore.records import EntryRecord, FolderRecord, MoveRecord, PackagesRecord, Record

_MOST_STEPS, _MOST_BYTES = 128, 256 << 20  # of one batch
_WORKERS = 4


def batches(steps: Iterable[Step]) -> Iterator[tuple[Step, ...]]:
    """The steps in their order, some of them together; what is no file goes alone."""
    batch: list[Step] = []
    size = 0
    for step in steps:
        own = step.record.after.size if isinstance(step.record, EntryRecord) else _MOST_BYTES
        if batch and (len(batch) == _MOST_STEPS or size + own > _MOST_BYTES):
            yield tuple(batch)
            batch, size = [], 0
        batch.append(step)
        size += own
    if batch:
        yield tuple(batch)


def make(steps: Sequence[Step]) -> tuple[Step, ...]:
    """Make a batch, and give its steps as they are then. Raises: OSError."""
    placed = [step.record for step in steps if isinstance(step.record, EntryRecord)]
    for record in placed:  # one after the other: several may need the same folder
        make_folders(record.new_folders)
    # All are written before the first is flushed: one flush then takes most of the others along.
    side_by_side(entries.stage_entry, placed)
    side_by_side(entries.settle_entry, placed)
    for step in steps:
        match step.record:
            case EntryRecord():
                entries.make_entry(step.record)
            case MoveRecord():
                moves.make_move(step.record)
            case FolderRecord():
                folder_steps.make_folder(step.record)
            case PackagesRecord():
                installing.install(step.record)
    for folder in {os.path.dirname(s.record.target) for s in steps if not isinstance(s.record, PackagesRecord)}:
        flush_folder(folder)
    return tuple(Step(step.number, StepState.PLACED, _after(step.record)) for step in steps)


def side_by_side(do: Callable[[EntryRecord], None], records: Sequence[EntryRecord]) -> None:
    """Do something with each, some at the same time: copying, flushing and hashing wait for different things."""
    if len(records) == 1:
        do(records[0])
        return
    with ThreadPoolExecutor(_WORKERS) as pool:
        list(pool.map(do, records))


def is_made(record: Record) -> bool:
    """Whether what a step is for is so. Raises: OSError."""
    match record:
        case EntryRecord():
            return entries.is_made(record)
        case MoveRecord():
            return moves.is_moved(record)
        case FolderRecord():
            return folder_steps.is_made(record)
        case PackagesRecord():
            return installing.are_installed(record)


def obstacle(record: Record) -> str:
    """Why a step can be neither made nor taken back; empty where it can. Raises: OSError."""
    match record:
        case EntryRecord():
            if not entries.is_kept(record):
                return "the original that was kept of it is gone or was altered"
            return "it is neither as before nor as restored" if entries.is_changed(record) else ""
        case MoveRecord():
            return "what was set aside cannot go back to its place" if moves.is_hindered(record) else ""
        case FolderRecord():
            return "its rights are neither as before nor as restored" if folder_steps.is_changed(record) else ""
        case PackagesRecord():
            return installing.why_they_must_stay(record)


def take_back(record: Record) -> None:
    """Make everything as it was before a step. Raises: OSError."""
    match record:
        case EntryRecord():
            entries.take_back_entry(record)
        case MoveRecord():
            moves.take_back_move(record)
        case FolderRecord():
            folder_steps.take_back_folder(record)
        case PackagesRecord():
            installing.purge(record)
            return
    remove_folders(record.new_folders)
    give_back_times(record.folders)


def _after(record: Record) -> Record:
    if isinstance(record, PackagesRecord):
        return record
    return msgspec.structs.replace(record, folders=after_step(record.folders))
