"""Replace an entry of a folder on a machine: the only place where Fundamen writes to a machine.

Guarantee: at every moment the target is either as it was, or new and whole. New content is staged beside the target,
flushed, read back and compared, then swapped in by a rename, and the folder is flushed. A place is reached from the
machine's root without following a link (``machine.places``).
"""

import contextlib
import errno
import os
from collections.abc import Callable, Iterable
from typing import TypeVar

from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.paths import HostPath
from fundamen.placing.calls import give_away, make_link, move, new_file, remove_entry, set_mode, set_times
from fundamen.placing.file_state import FileState, digest_of_file, digest_of_place

OURS = ".fundamen-"  # how names of ours beside those of a machine begin
_PIECE = 1 << 20  # bytes
_MOST_AT_ONCE = 1 << 30  # bytes that the system is asked to copy
_BLOCK = 512  # bytes, in which the system counts what a file takes up

Made = TypeVar("Made")


def name_of_ours(what: str = "") -> str:
    """A name for something of ours beside a place, which no one can guess beforehand."""
    return f"{OURS}{what}{os.urandom(8).hex()}"


def keep_copy(source: Place, target: HostPath) -> None:
    """Write a copy of a file to a place of ours, its holes too. It is not on the disk until it was flushed.

    Raises:
        OSError: it cannot be read or written.
    """
    with source.open_to_read() as content, open(target, "xb") as copy:
        _copy_whole(content.fileno(), copy.fileno())


def settle(place: Place, sha256: str) -> None:
    """Have a file on the disk, and see that it is what it should be.

    Raises:
        OSError: it cannot be, or what was read back has another digest.
    """
    place.flush()
    require_digest(place, sha256)


def require_digest(path: HostPath | Place, sha256: str) -> None:
    """See that a file is what it should be. Raises: OSError: it has another digest, or cannot be read."""
    found = digest_of_place(path) if isinstance(path, Place) else digest_of_file(path)
    if found != sha256:
        name = path.host if isinstance(path, Place) else path
        raise OSError(0, say("placing.what-was-read-back-has-the", found=found[:16], sha256=sha256[:16]), name)


def stage(content: HostPath, staged: Place, state: FileState) -> None:
    """Write new content under a name beside its place, with all that it is to have besides its bytes.

    It is not on the disk until ``settle``; links are made again and need none.

    Args:
        content: our own file with the new bytes.
        staged: a name in the target's folder that is ours to use.
        state: the times count only where ``modified_ns`` is not negative.

    Raises:
        OSError: it could not be done.
    """
    if state.link:
        _made_new(staged, lambda: make_link(staged, state.link))
        if state.modified_ns >= 0:
            _own(staged, state)
            set_times(staged, state.accessed_ns, state.modified_ns)
        return
    with open(content, "rb") as source, _made_new(staged, lambda: new_file(staged)) as copy:
        _copy_whole(source.fileno(), copy.fileno())
        _dress(copy.fileno(), state)


def dress_folder(place: Place, state: FileState) -> None:
    """Give a folder owner and rights, and times where ``modified_ns`` is not negative. Raises: OSError."""
    _own(place, state)
    set_mode(place, state.mode)
    if state.modified_ns >= 0:
        set_times(place, state.accessed_ns, state.modified_ns)


def swap(staged: Place, target: Place) -> None:
    """Put what was staged and settled in its place. The folder is not flushed yet. Raises: OSError."""
    move(staged, target)


def put(content: HostPath, target: Place, staged: Place, state: FileState) -> None:
    """Put a file or link in its place, in all these steps.

    Raises:
        OSError: it could not be done; the target is untouched.
    """
    try:
        stage(content, staged, state)
        if not state.link:
            settle(staged, state.sha256)
        swap(staged, target)
    except OSError:
        with contextlib.suppress(OSError):
            remove(staged)
        raise
    # Flushed after the swap: until then a power cut may show the old file, but never half of one.
    target.folder.flush()


def remove(place: Place) -> None:
    """Remove a file or link, if it exists. Raises: OSError."""
    with contextlib.suppress(FileNotFoundError):
        remove_entry(place)
        place.folder.flush()


def _made_new(place: Place, make: Callable[[], Made]) -> Made:
    """Make something under a name of ours, where something may have been left behind by one that was killed."""
    try:
        return make()
    except FileExistsError:
        remove(place)
        return make()


def _copy_whole(source: int, target: int) -> None:
    """Copy a file into a new one, its holes too. Raises: OSError."""
    status = os.fstat(source)
    if status.st_blocks * _BLOCK >= status.st_size or not hasattr(os, "SEEK_DATA"):
        _copy(source, target, 0, status.st_size)
        return
    for begin, end in _ranges(source, status.st_size):
        _copy(source, target, begin, end)
    os.ftruncate(target, status.st_size)


def _copy(source: int, target: int, begin: int, end: int) -> None:
    """Copy a range to the same place, by the system itself where it can. Raises: OSError."""
    at = begin
    while at < end:
        count = _copied_by_the_system(source, target, at, end - at)
        if count is None:
            os.lseek(source, at, os.SEEK_SET)
            os.lseek(target, at, os.SEEK_SET)
            piece = os.read(source, min(_PIECE, end - at))
            count = os.write(target, piece) if piece else 0
        if not count:  # it has become shorter; the caller compares the digest
            return
        at += count


def _copied_by_the_system(source: int, target: int, at: int, count: int) -> int | None:
    """How many bytes the system has copied; None where it does not for these files. Source: copy_file_range(2)."""
    if not hasattr(os, "copy_file_range"):
        return None
    try:
        return os.copy_file_range(source, target, min(count, _MOST_AT_ONCE), at, at)
    except OSError as error:
        if error.errno in {errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP, errno.EBADF}:
            return None
        raise


def _ranges(handle: int, size: int) -> Iterable[tuple[int, int]]:
    """(begin, end) of what is no hole. Source: lseek(2), SEEK_DATA and SEEK_HOLE."""
    at = 0
    while at < size:
        try:
            begin = os.lseek(handle, at, os.SEEK_DATA)
        except OSError:  # ENXIO: nothing but a hole up to the end
            return
        at = os.lseek(handle, begin, os.SEEK_HOLE)
        yield begin, at


def _dress(handle: int, state: FileState) -> None:
    status = os.fstat(handle)
    if (status.st_uid, status.st_gid) != (state.uid, state.gid):
        os.fchown(handle, state.uid, state.gid)
    os.fchmod(handle, state.mode)
    for name, value in state.attributes:
        try:
            os.setxattr(handle, name, value)
        except OSError:  # the system's own, such as a security label, it sets itself where we may not
            if name.startswith("user."):
                raise
    if state.modified_ns >= 0:
        os.utime(handle, ns=(state.accessed_ns, state.modified_ns))


def _own(place: Place, state: FileState) -> None:
    status = place.status()
    if (status.st_uid, status.st_gid) != (state.uid, state.gid):
        give_away(place, state.uid, state.gid)
