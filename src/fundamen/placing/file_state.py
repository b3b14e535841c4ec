"""A file as it stands on a host: all that is put back when a change to it is undone."""

import os
import stat

import msgspec

from fundamen.machine.file_bytes import FileBytes
from fundamen.model.paths import HostPath, shown
from fundamen.trust.digest import digest_of


class FileState(msgspec.Struct, frozen=True):
    """A file as it stands: all that is put back when a change is undone."""

    size: int  # bytes
    sha256: str
    mode: int  # permission bits
    uid: int
    gid: int
    accessed_ns: int  # since the epoch
    modified_ns: int
    attributes: tuple[tuple[str, bytes], ...] = ()  # extended ones
    link: str = ""  # of a symbolic link: its target, as it stands in it; it has no bytes and no digest


def read_state(path: HostPath) -> FileState | None:
    """The state of an ordinary file or a symbolic link; None where nothing stands there.

    Raises:
        OSError: it cannot be read, or something else stands there.
    """
    try:
        status = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    is_link = stat.S_ISLNK(status.st_mode)
    if not is_link and not stat.S_ISREG(status.st_mode):
        raise OSError(0, "something else than an ordinary file stands there", path)
    return state_of(path, status, "" if is_link else digest_of_file(path))


def state_of(path: HostPath, status: os.stat_result, sha256: str) -> FileState:
    """The state of what has this status; a folder has no size. Raises: OSError."""
    is_link = stat.S_ISLNK(status.st_mode)
    return FileState(
        size=status.st_size if stat.S_ISREG(status.st_mode) else 0,
        sha256=sha256,
        mode=stat.S_IMODE(status.st_mode),
        uid=status.st_uid,
        gid=status.st_gid,
        accessed_ns=status.st_atime_ns,
        modified_ns=status.st_mtime_ns,
        attributes=() if is_link else _extended_attributes(path),
        link=os.readlink(path) if is_link else "",
    )


def stands_as(path: HostPath, state: FileState | None) -> bool:
    """Whether a file or link of some content stands at a path; its mode and times do not count. Raises: OSError."""
    if not os.path.lexists(path):
        return state is None
    if state is None or os.path.islink(path):
        return state is not None and bool(state.link) and os.path.islink(path) and os.readlink(path) == state.link
    return os.path.isfile(path) and not state.link and digest_of_file(path) == state.sha256


def digest_of_file(path: str) -> str:
    """The SHA-256 of a host file. Raises: OSError."""
    with FileBytes(HostPath(path), path) as source:
        return digest_of(source)


def _extended_attributes(path: HostPath) -> tuple[tuple[str, bytes], ...]:
    if not hasattr(os, "listxattr"):
        return ()
    try:
        return tuple((name, os.getxattr(path, name)) for name in sorted(os.listxattr(path)))
    except OSError as error:
        if error.errno in {95, 1}:  # ENOTSUP: the file system has none; EPERM: none that we may carry over
            return ()
        raise OSError(error.errno, f"its extended attributes cannot be kept: {error.strerror}", shown(path)) from error
