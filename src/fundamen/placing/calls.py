"""System calls that change entries of a machine, each through the handle of its folder.

All raise OSError, with the host path; none follows a link.
"""

import os
from typing import IO

from fundamen.machine.places import Place

_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL


def new_file(place: Place) -> IO[bytes]:
    """A new file of its owner alone, where nothing stands, to be written and read."""
    return os.fdopen(place.open(_NEW, 0o600), "w+b")


def remove_entry(place: Place) -> None:
    """Remove a file or link."""
    with place.at() as folder:
        os.unlink(place.name, dir_fd=folder)


def make_folder(place: Place, mode: int = 0o777) -> None:
    """Make a folder."""
    with place.at() as folder:
        os.mkdir(place.name, mode, dir_fd=folder)


def remove_folder(place: Place) -> None:
    """Remove an empty folder."""
    place.top.forget(place.inner)
    with place.at() as folder:
        os.rmdir(place.name, dir_fd=folder)


def make_link(place: Place, target: str) -> None:
    """Make a symbolic link."""
    with place.at() as folder:
        os.symlink(target, place.name, dir_fd=folder)


def name_also(place: Place, other: Place) -> None:
    """Create a hard link to it."""
    with place.at() as folder, other.at() as its:
        os.link(place.name, other.name, src_dir_fd=folder, dst_dir_fd=its, follow_symlinks=False)


def move(place: Place, other: Place) -> None:
    """Rename it, replacing a file or link of that name."""
    with place.at() as folder, other.at() as its:
        os.rename(place.name, other.name, src_dir_fd=folder, dst_dir_fd=its)
    place.top.forget(place.inner)
    other.top.forget(other.inner)


def give_away(place: Place, uid: int, gid: int) -> None:
    """Change the owner of a file, link or folder."""
    with place.at() as folder:
        os.chown(place.name or ".", uid, gid, dir_fd=folder, follow_symlinks=False)


def set_times(place: Place, accessed_ns: int, modified_ns: int) -> None:
    """Set the times of a file, link or folder."""
    with place.at() as folder:
        os.utime(place.name or ".", ns=(accessed_ns, modified_ns), dir_fd=folder, follow_symlinks=False)


def set_mode(place: Place, mode: int) -> None:
    """Set the mode of a file or folder."""
    with place.itself() as it:
        os.chmod(it, mode)


def set_attribute(place: Place, name: str, value: bytes) -> None:
    """Set an extended attribute of a file or folder."""
    with place.itself() as it:
        os.setxattr(it, name, value)


def remove_attribute(place: Place, name: str) -> None:
    """Remove an extended attribute of a file or folder."""
    with place.itself() as it:
        os.removexattr(it, name)
