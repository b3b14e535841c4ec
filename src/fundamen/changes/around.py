"""The folders around a step: which have to be made, and which get their times back when it is undone."""

import contextlib
import os
from collections.abc import Iterable

import msgspec

from fundamen.changes.base import NOT_OURS, OURS, Around, FolderTimes, Site
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.placing.calls import make_folder


def around(site: Site, wanted: Place) -> Around:
    """The folder in which something is to stand, or the nearest above it that is there. Raises: OSError."""
    missing: list[str] = []
    folder = wanted
    while not folder.is_folder:
        if folder.is_there:
            raise NotADirectoryError(20, say("changes.it-is-no-folder-or-a"), folder.host)
        missing.insert(0, site.location(folder))
        folder = folder.folder
    status = folder.status()
    return Around(tuple(missing), _times(site, folder, status), status.st_uid, status.st_gid)


def owner_in(place: Around, uid: int, gid: int) -> tuple[int, int]:
    """To whom something new belongs: only the administrator may give it away, at first to the folder's owner."""
    if os.geteuid() != 0:
        return os.geteuid(), os.getegid()
    return (place.uid if uid < 0 else uid), (place.gid if gid < 0 else gid)


def times_of(site: Site, folder: Place) -> FolderTimes:
    """A folder as it is now. Raises: OSError."""
    return _times(site, folder, folder.status())


def _times(site: Site, folder: Place, status: os.stat_result) -> FolderTimes:
    return FolderTimes(
        path=site.location(folder),
        modified_ns=status.st_mtime_ns,
        accessed_ns=status.st_atime_ns,
        device=status.st_dev,
        inode=status.st_ino,
    )


def make_folders(site: Site, folders: Iterable[str]) -> None:
    """Make folders that are not there yet; those around them are not flushed yet. Raises: OSError."""
    for folder in folders:
        with contextlib.suppress(FileExistsError):
            make_folder(site.place(folder))


def check_folders(
    site: Site, folders: Iterable[FolderTimes], last_ns: dict[str, int], *, is_done: bool
) -> tuple[FolderTimes, ...]:
    """The folders with the finding whether anybody else has changed them since the last step.

    Args:
        site: where they are.
        folders: of a step.
        last_ns: by location, their time of change right after the last step in them.
        is_done: whether the restoration came to its end; otherwise it cannot be known, and they count as ours.

    Raises:
        OSError: one of them is gone.
    """

    def is_ours(each: FolderTimes) -> bool:
        return not is_done or last_ns[each.path] in {OURS, site.place(each.path).status().st_mtime_ns}

    return tuple(msgspec.structs.replace(each, after_ns=OURS if is_ours(each) else NOT_OURS) for each in folders)
