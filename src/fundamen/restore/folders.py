"""The folders around a step: which have to be made, and which get their times back when it is taken back."""

import contextlib
import os
from collections.abc import Iterable

import msgspec

from fundamen.restore.records import OURS, SOMEBODY_ELSES, FolderTimes


class Around(msgspec.Struct, frozen=True):
    """What is around a path."""

    missing: tuple[str, ...]  # the folders that it needs and that are not there, outermost first
    nearest: FolderTimes  # the nearest that is there
    uid: int  # its owner
    gid: int


def around(wanted: str) -> Around:
    """The folder in which something is to stand, or the nearest above it that is there. Raises: OSError."""
    missing: list[str] = []
    folder = wanted
    while not os.path.isdir(folder):
        missing.insert(0, folder)
        folder = os.path.dirname(folder)
    status = os.stat(folder)
    times = FolderTimes(folder, status.st_mtime_ns, status.st_atime_ns)
    return Around(tuple(missing), times, status.st_uid, status.st_gid)


def owner_in(place: Around, uid: int, gid: int) -> tuple[int, int]:
    """To whom something new belongs: only the administrator may give it away, at first to whoever has the folder."""
    if os.geteuid() != 0:
        return os.geteuid(), os.getegid()
    return (place.uid if uid < 0 else uid), (place.gid if gid < 0 else gid)


def times_of(folder: str) -> FolderTimes:
    """A folder as it is now. Raises: OSError."""
    status = os.stat(folder)
    return FolderTimes(folder, status.st_mtime_ns, status.st_atime_ns)


def make_folders(folders: Iterable[str]) -> None:
    """Make folders that are not there yet; those around them are not flushed yet. Raises: OSError."""
    for folder in folders:
        with contextlib.suppress(FileExistsError):
            os.mkdir(folder)


def remove_folders(folders: Iterable[str]) -> None:
    """Remove folders that were made, the innermost first; those in which somebody has put something stay."""
    for folder in reversed(tuple(folders)):
        with contextlib.suppress(OSError):
            os.rmdir(folder)


def changed_at(folder: str) -> int:
    """A folder's time of change now, right after a step. Raises: OSError."""
    return os.stat(folder).st_mtime_ns


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
