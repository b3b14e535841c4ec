"""Make the steps of a restoration, and undo them, each by its kind.

A batch is made together: all is staged, then all is flushed and read back, then all is put in its place, then the
folders are flushed and the journal is written. Until then it knows of each step what was there before, so a cut at any
moment leaves entries that are old or new, and can be distinguished by looking.
"""

import contextlib
import functools
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec

from fundamen.changes.base import FolderTimes, Record, Site, Tell
from fundamen.execution.journal import JournalStep, StepState
from fundamen.machine.file_systems import keeps_numbers
from fundamen.messages import UNSAID, Message, say
from fundamen.placing.flushing import flush_all

_MOST_STEPS, _MOST_BYTES, _MOST_FOLDERS = 1024, 256 << 20, 64  # of one batch; its folders are held open


def batches(steps: Iterable[JournalStep]) -> Iterator[tuple[JournalStep, ...]]:
    """The steps in their order, some of them together; what is no file goes alone."""
    batch: list[JournalStep] = []
    folders = set[str]()
    size = 0
    for step in steps:
        own = step.record.batch_size
        touched = {*step.record.changed_folders()} - folders
        is_full = len(batch) == _MOST_STEPS or len(folders) + len(touched) > _MOST_FOLDERS
        if batch and (own is None or is_full or size + own > _MOST_BYTES):
            yield tuple(batch)
            batch, size, folders = [], 0, set()
        batch.append(step)
        folders |= touched
        size += _MOST_BYTES if own is None else own
    if batch:
        yield tuple(batch)


def make(site: Site, steps: Sequence[JournalStep], tell: Tell) -> tuple[JournalStep, ...]:
    """Make a batch, and give its steps as they are then. Raises: OSError."""
    records = [step.record for step in steps]
    with hold_folders(site, records):
        for kind, alike in by_kind(records):
            kind.prepare(alike, site)
        for record in records:
            record.make(site, tell)
        flush_all(site.place(folder) for record in records for folder in record.changed_folders())
        look = functools.cache(lambda location: site.place(location).status().st_mtime_ns)
        return tuple(JournalStep(step.number, StepState.PLACED, _after(step.record, look)) for step in steps)


def by_kind(records: Iterable[Record]) -> Iterator[tuple[type[Record], list[Record]]]:
    """Records by their kinds, for what is done with all of a kind together."""
    found: dict[type[Record], list[Record]] = {}
    for record in records:
        found.setdefault(type(record), []).append(record)
    yield from found.items()


@contextlib.contextmanager
def hold_folders(site: Site, records: Iterable[Record]) -> Iterator[None]:
    """Descend again to the folders of some steps, and see that each is the one that it was; they are held meanwhile.

    Raises:
        OSError: something else is there now.
    """
    alike = tuple(records)
    folders = {each.path: each for record in alike for each in record.around()}
    if not any(True for record in alike for _ in record.changed_folders()):
        yield
        return
    site.ground.forget()
    try:
        for each in folders.values():
            if why := why_replaced(site, each):
                raise OSError(0, why, site.place(each.path).host)
        yield
    finally:
        site.ground.forget()


def why_replaced(site: Site, folder: FolderTimes) -> Message:
    """Why a folder is not the one that it was; empty where it is, or no one can tell. Raises: OSError."""
    if not folder.inode:
        return UNSAID
    status = site.place(folder.path).status()
    if status.st_ino == folder.inode or not keeps_numbers(status.st_dev):
        return UNSAID
    return say("execution.it-is-another-folder-now-than")


def obstacle(site: Site, record: Record) -> str:
    """Why a step can be neither made nor undone; empty where it can. Raises: OSError."""
    return next(filter(None, (why_replaced(site, folder) for folder in record.around())), "") or record.obstacle(site)


def take_back(site: Site, steps: Iterable[JournalStep]) -> None:
    """Make everything as it was before some steps, the last one first, and have it on the disk. Raises: OSError."""
    records = [step.record for step in steps]
    with hold_folders(site, records):
        for record in records:
            record.take_back(site)
            record.clear_away(site)
        folders = {folder for record in records for folder in record.changed_folders()}
        folders |= {each.path for record in records for each in record.around()}
        places = map(site.place, sorted(folders))
        flush_all(place for place in places if place.is_folder)


def _after(record: Record, changed_at: Callable[[str], int]) -> Record:
    """The record with when its folders were changed, right after the step."""
    folders = tuple(msgspec.structs.replace(each, after_ns=changed_at(each.path)) for each in record.around())
    return record.with_around(folders)
