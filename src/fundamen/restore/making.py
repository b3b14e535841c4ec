"""Make the steps of a restoration, and take them back, each by its kind.

A batch is made together: all is staged, then all is flushed and read back, then all is put in its place, then the
folders are flushed and the journal is told. Until then it knows of each step what stood there before, so a cut at any
moment leaves entries that are old or new, and can be told apart by looking.
"""

import contextlib
import functools
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec

from fundamen.machine.file_systems import keeps_numbers
from fundamen.placing.flushing import flush_all
from fundamen.restore import entries
from fundamen.restore.folders import give_back_times, make_folders, remove_folders
from fundamen.restore.journal import Step, StepState
from fundamen.restore.kinds import kind_of
from fundamen.restore.records import EntryRecord, FolderRecord, FolderTimes, Record, Site, StepRecord, Tell

_MOST_STEPS, _MOST_BYTES, _MOST_FOLDERS = 1024, 256 << 20, 64  # of one batch; its folders are held open


def batches(steps: Iterable[Step]) -> Iterator[tuple[Step, ...]]:
    """The steps in their order, some of them together; what is no file goes alone."""
    batch: list[Step] = []
    folders = set[str]()
    size = 0
    for step in steps:
        own = step.record.after.size if isinstance(step.record, EntryRecord) else _MOST_BYTES
        touched = {*_changed_folders(step.record)} - folders
        is_full = len(batch) == _MOST_STEPS or len(folders) + len(touched) > _MOST_FOLDERS
        if batch and (is_full or size + own > _MOST_BYTES):
            yield tuple(batch)
            batch, size, folders = [], 0, set()
        batch.append(step)
        folders |= touched
        size += own
    if batch:
        yield tuple(batch)


def make(site: Site, steps: Sequence[Step], tell: Tell) -> tuple[Step, ...]:
    """Make a batch, and give its steps as they are then. Raises: OSError."""
    placed = [step.record for step in steps if isinstance(step.record, EntryRecord)]
    with holding(site, [step.record for step in steps]):
        make_folders(site, dict.fromkeys(folder for record in placed for folder in record.new_folders))
        # All are written before the first is flushed: one flush then takes the others along.
        entries.stage_entries(placed, site)
        entries.settle_entries(placed, site)
        for step in steps:
            kind_of(step.record).make(step.record, site, tell)
        flush_all(site.place(folder) for step in steps for folder in _changed_folders(step.record))
        look = functools.cache(lambda location: site.place(location).status().st_mtime_ns)
        return tuple(Step(step.number, StepState.PLACED, _after(step.record, look)) for step in steps)


@contextlib.contextmanager
def holding(site: Site, records: Iterable[Record]) -> Iterator[None]:
    """Descend anew to the folders of some steps, and see that each is the one that it was; they are held meanwhile.

    Raises:
        OSError: something else stands there now.
    """
    with_folders = [record for record in records if isinstance(record, StepRecord)]
    if not with_folders:
        yield
        return
    site.ground.forget()
    try:
        for each in {each.path: each for record in with_folders for each in record.folders}.values():
            if why := replaced(site, each):
                raise OSError(0, why, site.place(each.path).host)
        yield
    finally:
        site.ground.forget()


def replaced(site: Site, folder: FolderTimes) -> str:
    """Why a folder is not the one that it was; empty where it is, or nobody can tell. Raises: OSError."""
    if not folder.inode:
        return ""
    status = site.place(folder.path).status()
    if status.st_ino == folder.inode or not keeps_numbers(status.st_dev):
        return ""
    return "another folder stands there now than the one that was changed"


def is_made(site: Site, record: Record) -> bool:
    """Whether what a step is for is so. Raises: OSError."""
    return kind_of(record).is_made(record, site)


def obstacle(site: Site, record: Record) -> str:
    """Why a step can be neither made nor taken back; empty where it can. Raises: OSError."""
    if isinstance(record, StepRecord):
        for folder in record.folders:
            if why := replaced(site, folder):
                return why
    return kind_of(record).obstacle(record, site)


def take_back(site: Site, steps: Iterable[Step]) -> None:
    """Make everything as it was before some steps, the last one first, and have it on the disk. Raises: OSError."""
    records = [step.record for step in steps]
    with holding(site, records):
        for record in records:
            _take_back(site, record)
        folders = {folder for record in records for folder in _changed_folders(record)}
        folders |= {each.path for r in records if isinstance(r, StepRecord) for each in r.folders}
        places = map(site.place, sorted(folders))
        flush_all(place for place in places if place.is_folder)


def _take_back(site: Site, record: Record) -> None:
    kind_of(record).take_back(record, site)
    if isinstance(record, StepRecord):
        remove_folders(site, record.new_folders)
        give_back_times(site, record.folders)


def _changed_folders(record: Record) -> Iterator[str]:
    """The locations of the folders whose entries a step has changed."""
    if isinstance(record, FolderRecord):
        yield record.target  # for its own rights and times
    if isinstance(record, StepRecord):
        yield _around(record.target)
        yield from map(_around, record.new_folders)


def _around(location: str) -> str:
    folder = location.rpartition("/")[0]
    return folder if folder and not folder.endswith(":") else f"{folder}/"


def _after(record: Record, changed_at: Callable[[str], int]) -> Record:
    """The record with when its folders were changed, right after the step."""
    if not isinstance(record, StepRecord):
        return record
    folders = tuple(msgspec.structs.replace(each, after_ns=changed_at(each.path)) for each in record.folders)
    return msgspec.structs.replace(record, folders=folders)
