"""Replace an entry of a folder on a machine: the only place where Fundamen writes to a machine.

Guarantee: at every moment the target is either as it was, or new and whole. New content is staged beside the target,
flushed, read back and compared, then swapped in by a rename, and the folder is flushed.
"""

import contextlib
import errno
import os
from collections.abc import Iterable

from fundamen.machine.file_bytes import open_quietly
from fundamen.model.paths import HostPath
from fundamen.placing.file_state import FileState, digest_of_file
from fundamen.placing.flushing import flush_file, flush_folder

OURS = ".fundamen-"  # how names of ours beside those of a machine begin
_PIECE = 1 << 20  # bytes
_MOST_AT_ONCE = 1 << 30  # bytes that the system is asked to copy
_BLOCK = 512  # bytes, in which the system counts what a file takes up


def keep_copy(source: HostPath, target: HostPath) -> None:
    """Write a copy of a file, its holes too. It is not on the disk until ``settle``. Raises: OSError."""
    with os.fdopen(open_quietly(source), "rb") as content, open(target, "xb") as copy:
        status = os.fstat(content.fileno())
        if status.st_blocks * _BLOCK >= status.st_size or not hasattr(os, "SEEK_DATA"):
            _copy(content.fileno(), copy.fileno(), 0, status.st_size)
            return
        for begin, end in _ranges(content.fileno(), status.st_size):
            _copy(content.fileno(), copy.fileno(), begin, end)
        copy.truncate(status.st_size)


def settle(path: HostPath, sha256: str) -> None:
    """Have a file on the disk, and see that it is what it should be.

    Raises:
        OSError: it cannot be, or what was read back has another digest.
    """
    flush_file(path)
    require_digest(path, sha256)


def require_digest(path: HostPath, sha256: str) -> None:
    """See that a file is what it should be. Raises: OSError: it has another digest, or cannot be read."""
    found = digest_of_file(path)
    if found != sha256:
        raise OSError(0, f"what was read back has the SHA-256 {found[:16]}..., not {sha256[:16]}...", path)


def stage(content: HostPath, staged: HostPath, state: FileState) -> None:
    """Write new content under a name beside its place, with all that it is to have besides its bytes.

    It is not on the disk until ``settle``; links are made anew and need none.

    Args:
        content: the host file with the new bytes; not looked at for a link.
        staged: a name in the target's folder that is ours to use.
        state: the times count only where ``modified_ns`` is not negative.

    Raises:
        OSError: it could not be done.
    """
    remove(staged)
    if state.link:
        os.symlink(state.link, staged)
        if state.modified_ns >= 0:
            _own(staged, state)
            os.utime(staged, ns=(state.accessed_ns, state.modified_ns), follow_symlinks=False)
        return
    keep_copy(content, staged)
    _dress(staged, state)


def dress_folder(path: HostPath, state: FileState) -> None:
    """Give a folder owner and rights, and times where ``modified_ns`` is not negative. Raises: OSError."""
    _own(path, state)
    os.chmod(path, state.mode)
    if state.modified_ns >= 0:
        os.utime(path, ns=(state.accessed_ns, state.modified_ns))


def swap(staged: HostPath, target: HostPath) -> None:
    """Put what was staged and settled in its place. The folder is not flushed yet. Raises: OSError."""
    os.rename(staged, target)


def put(content: HostPath, target: HostPath, staged: HostPath, state: FileState) -> None:
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
    flush_folder(os.path.dirname(target))


def remove(path: HostPath) -> None:
    """Take a file of ours away, if it is there. Raises: OSError."""
    with contextlib.suppress(FileNotFoundError):
        os.unlink(path)
        flush_folder(os.path.dirname(path))


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
        if not count:  # it has become shorter; whoever asked compares the digest
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


def _dress(path: HostPath, state: FileState) -> None:
    _own(path, state)
    os.chmod(path, state.mode)
    for name, value in state.attributes:
        _set_attribute(path, name, value)
    if state.modified_ns >= 0:
        os.utime(path, ns=(state.accessed_ns, state.modified_ns))


def _own(path: HostPath, state: FileState) -> None:
    status = os.lstat(path)
    if (status.st_uid, status.st_gid) != (state.uid, state.gid):
        os.chown(path, state.uid, state.gid, follow_symlinks=False)


def _set_attribute(path: HostPath, name: str, value: bytes) -> None:
    """Set an extended attribute. The system's own, such as a security label, it sets itself where we may not."""
    try:
        os.setxattr(path, name, value)
    except OSError:
        if name.startswith("user."):
            raise
