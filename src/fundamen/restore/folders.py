"""The folders around a step: which have to be made, and which get their times back when it is taken back."""

import contextlib
import os
from collections.abc import Iterable

import msgspec

from fundamen.placing.replacing import flush_folder
from fundamen.restore.records import OURS, SOMEBODY_ELSES, FolderTimes


def folders_for(target: str) -> tuple[tuple[str, ...], FolderTimes]:
    """(the folders that a path needs and that are not there, outermost first; the nearest one that is there)."""
    missing: list[str] = []
    folder = os.path.dirname(target)
    while not os.path.isdir(folder):
        missing.insert(0, folder)
        folder = os.path.dirname(folder)
    return tuple(missing), times_of(folder)


def times_of(folder: str) -> FolderTimes:
    """A folder as it is now. Raises: OSError."""
    status = os.stat(folder)
    return FolderTimes(folder, status.st_mtime_ns, status.st_atime_ns)


def make_folders(folders: Iterable[str]) -> None:
    """Make folders that are not there yet. Raises: OSError."""
    for folder in folders:
        with contextlib.suppress(FileExistsError):
            os.mkdir(folder)
            flush_folder(os.path.dirname(folder))


def remove_folders(folders: Iterable[str]) -> None:
    """Remove folders that were made, the innermost first; those in which somebody has put something stay."""
    for folder in reversed(tuple(folders)):
        with contextlib.suppress(OSError):
            os.rmdir(folder)


def after_step(folders: Iterable[FolderTimes]) -> tuple[FolderTimes, ...]:
    """The folders with their time of change now, right after a step. Raises: OSError."""
    return tuple(msgspec.structs.replace(each, after_ns=os.stat(each.path).st_mtime_ns) for each in folders)


def settled(folders: Iterable[FolderTimes], last_ns: dict[str, int], *, is_done: bool) -> tuple[FolderTimes, ...]:
    """The folders with the finding whether anybody else has changed them since the last step.

    Args:
        folders: of a step.
        last_ns: by path, their time of change right after the last step in them.
        is_done: whether the restoration came to its end; otherwise it cannot be told, and they count as ours.

    Raises:
        OSError: one of them is gone.
    """

    def is_ours(each: FolderTimes) -> bool:
        return not is_done or last_ns[each.path] in {OURS, os.stat(each.path).st_mtime_ns}

    return tuple(msgspec.structs.replace(each, after_ns=OURS if is_ours(each) else SOMEBODY_ELSES) for each in folders)


def give_back_times(folders: Iterable[FolderTimes]) -> None:
    """Give folders that only we have changed the times that they had. Raises: OSError."""
    for each in folders:
        if each.after_ns != SOMEBODY_ELSES:
            with contextlib.suppress(PermissionError):  # a folder that we may write to, but do not own
                os.utime(each.path, ns=(each.accessed_ns, each.modified_ns))
