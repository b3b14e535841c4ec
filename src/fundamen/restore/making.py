"""Make the steps of a restoration, and take them back, each by its kind.

A batch is made together: all is staged, then all is flushed and read back, then all is put in its place, then the
folders are flushed and the journal is told. Until then it knows of each step what stood there before, so a cut at any
moment leaves entries that are old or new, and can be told apart by looking.
"""

import functools
import os
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec

from fundamen.model.paths import HostPath
from fundamen.placing.flushing import flush_all
from fundamen.restore import entries
from fundamen.restore.folders import changed_at, give_back_times, make_folders, remove_folders
from fundamen.restore.journal import Step, StepState
from fundamen.restore.kinds import kind_of
from fundamen.restore.records import EntryRecord, FolderRecord, Record, StepRecord, Tell

_MOST_STEPS, _MOST_BYTES = 1024, 256 << 20  # of one batch


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


def make(steps: Sequence[Step], tell: Tell) -> tuple[Step, ...]:
    """Make a batch, and give its steps as they are then. Raises: OSError."""
    placed = [step.record for step in steps if isinstance(step.record, EntryRecord)]
    make_folders(dict.fromkeys(folder for record in placed for folder in record.new_folders))
    # All are written before the first is flushed: one flush then takes the others along.
    entries.stage_entries(placed)
    entries.settle_entries(placed)
    for step in steps:
        kind_of(step.record).make(step.record, tell)
    flush_all(HostPath(folder) for step in steps for folder in _changed_folders(step.record))
    look = functools.cache(changed_at)
    return tuple(Step(step.number, StepState.PLACED, _after(step.record, look)) for step in steps)


def is_made(record: Record) -> bool:
    """Whether what a step is for is so. Raises: OSError."""
    return kind_of(record).is_made(record)


def obstacle(record: Record) -> str:
    """Why a step can be neither made nor taken back; empty where it can. Raises: OSError."""
    return kind_of(record).obstacle(record)


def take_back(steps: Iterable[Step]) -> None:
    """Make everything as it was before some steps, the last one first, and have it on the disk. Raises: OSError."""
    records = [step.record for step in steps]
    for record in records:
        _take_back(record)
    folders = {folder for record in records for folder in _changed_folders(record)}
    folders |= {each.path for r in records if isinstance(r, StepRecord) for each in r.folders}
    flush_all(HostPath(folder) for folder in sorted(folders) if os.path.isdir(folder))


def _take_back(record: Record) -> None:
    kind_of(record).take_back(record)
    if isinstance(record, StepRecord):
        remove_folders(record.new_folders)
        give_back_times(record.folders)


def _changed_folders(record: Record) -> Iterator[str]:
    """The host paths of the folders whose entries a step has changed."""
    if isinstance(record, FolderRecord):
        yield record.target  # for its own rights and times
    if isinstance(record, StepRecord):
        yield os.path.dirname(record.target)
        yield from (os.path.dirname(folder) for folder in record.new_folders)


def _after(record: Record, changed_at: Callable[[str], int]) -> Record:
    """The record with when its folders were changed, right after the step."""
    if not isinstance(record, StepRecord):
        return record
    folders = tuple(msgspec.structs.replace(each, after_ns=changed_at(each.path)) for each in record.folders)
    return msgspec.structs.replace(record, folders=folders)
