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


def read_state(path: HostPath) -> FileState | None:
    """The state of an ordinary file; None where nothing stands there.

    Raises:
        OSError: it cannot be read, or something else than an ordinary file stands there.
    """
    try:
        status = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    if not stat.S_ISREG(status.st_mode):
        raise OSError(0, "something else than an ordinary file stands there", path)
    digest = digest_of_file(path)
    return FileState(
        size=status.st_size,
        sha256=digest,
        mode=stat.S_IMODE(status.st_mode),
        uid=status.st_uid,
        gid=status.st_gid,
        accessed_ns=status.st_atime_ns,
        modified_ns=status.st_mtime_ns,
        attributes=_extended_attributes(path),
    )


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
