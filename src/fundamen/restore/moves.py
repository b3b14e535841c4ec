"""The step that sets a file or folder aside: it gets another name, and nothing of it is touched."""

import os

from fundamen.model.paths import HostPath
from fundamen.placing.flushing import flush_folder
from fundamen.restore.folders import around, make_folders, times_of
from fundamen.restore.records import MoveRecord
from fundamen.restore.steps import Move


def keep(step: Move, target: HostPath, aside: HostPath) -> MoveRecord:
    """Write down what is to be moved; nothing is changed.

    Raises:
        OSError: nothing stands there, or something where it is to go, or that is on another file system.
    """
    status = os.lstat(target)
    if os.path.lexists(aside):
        raise FileExistsError(17, "something stands there already", aside)
    beside = around(os.path.dirname(aside))
    nearest = beside.nearest
    if os.lstat(nearest.path).st_dev != status.st_dev or os.path.ismount(target):
        raise OSError(18, "it would have to go to another file system", target)
    own = times_of(os.path.dirname(target))
    folders = (own,) if own.path == nearest.path else (own, nearest)
    return MoveRecord(path=step.path, target=target, aside=aside, new_folders=beside.missing, folders=folders)


def make_move(record: MoveRecord) -> None:
    """Move it; the folders are not flushed yet. Raises: OSError."""
    make_folders(record.new_folders)
    if os.path.lexists(record.aside):
        raise FileExistsError(17, "something stands there by now", record.aside)
    os.rename(record.target, record.aside)
    flush_folder(os.path.dirname(record.aside))


def is_moved(record: MoveRecord) -> bool:
    """Whether it lies aside."""
    return os.path.lexists(record.aside)


def obstacle(record: MoveRecord) -> str:
    """Why it can neither be moved nor be moved back: something else stands in its place, or it is gone."""
    is_hindered = os.path.lexists(record.aside) == os.path.lexists(record.target)
    return "what was set aside cannot go back to its place" if is_hindered else ""


def take_back_move(record: MoveRecord) -> None:
    """Move it back. Raises: OSError."""
    if os.path.lexists(record.aside):
        os.rename(record.aside, record.target)
        flush_folder(os.path.dirname(record.target))
        flush_folder(os.path.dirname(record.aside))
