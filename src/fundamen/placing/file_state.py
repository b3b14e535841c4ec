"""The state of a file on a machine: all that is put back when a change to it is undone."""

import os
import stat

import msgspec

from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.paths import HostPath
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


def read_state(place: Place) -> FileState | None:
    """The state of an ordinary file or a symbolic link; None if there is none.

    Raises:
        OSError: it cannot be read, or is of another type.
    """
    status = place.status_or_none()
    if status is None:
        return None
    is_link = stat.S_ISLNK(status.st_mode)
    if not is_link and not stat.S_ISREG(status.st_mode):
        raise OSError(0, say("placing.it-is-not-an-ordinary-file"), place.host)
    return state_of(place, status, "" if is_link else digest_of_place(place))


def state_of(place: Place, status: os.stat_result, sha256: str) -> FileState:
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
        attributes=() if is_link else _extended_attributes(place),
        link=place.link() if is_link else "",
    )


def stands_as(place: Place, state: FileState | None) -> bool:
    """Whether a file or link of some content stands at a place; its mode and times do not count. Raises: OSError."""
    status = place.status_or_none()
    if status is None or state is None:
        return status is None and state is None
    if stat.S_ISLNK(status.st_mode):
        return bool(state.link) and place.link() == state.link
    return stat.S_ISREG(status.st_mode) and not state.link and digest_of_place(place) == state.sha256


def digest_of_place(place: Place) -> str:
    """The SHA-256 of the file at a place. Raises: OSError."""
    with FileBytes(place, place.host) as source:
        return digest_of(source)


def digest_of_file(path: str) -> str:
    """The SHA-256 of a host file. Raises: OSError."""
    with FileBytes(HostPath(path), path) as source:
        return digest_of(source)


def _extended_attributes(place: Place) -> tuple[tuple[str, bytes], ...]:
    if not hasattr(os, "listxattr"):
        return ()
    try:
        return place.attributes()
    except OSError as error:
        if error.errno in {95, 1}:  # ENOTSUP: the file system has none; EPERM: none that we may carry over
            return ()
        why = say("placing.its-extended-attributes-cannot-be-kept", strerror=error.strerror)
        raise OSError(error.errno, why, printable(place.host)) from error
