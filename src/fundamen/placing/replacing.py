"""Replace a file on a machine: the only place where Fundamen writes to a machine.

Guarantee: at every moment the target is either as it was, or new and whole. New content is staged beside the target,
flushed, read back and compared, then swapped in by a rename, and the folder is flushed.
"""

import contextlib
import os

from fundamen.machine.file_bytes import FileBytes
from fundamen.model.paths import HostPath
from fundamen.placing.file_state import FileState, digest_of_file

_PIECE = 1 << 18  # bytes


def copy_flushed(source: HostPath, target: HostPath, sha256: str) -> None:
    """Write a copy that is on the disk, and is what it should be, when this returns.

    Raises:
        OSError: it cannot be written, or what was read back has another digest.
    """
    with FileBytes(source, source) as content, open(target, "xb") as copy:
        while piece := content.read_at(copy.tell(), _PIECE):
            copy.write(piece)
        copy.flush()
        os.fsync(copy.fileno())
    found = digest_of_file(target)
    if found != sha256:
        raise OSError(0, f"what was read back has the SHA-256 {found[:16]}..., not {sha256[:16]}...", target)


def put(content: HostPath, target: HostPath, staged: HostPath, sha256: str, state: FileState) -> None:
    """Put content at a target with the mode, owner, times and attributes of a state.

    Args:
        content: the host file with the new bytes.
        target: what is replaced or made.
        staged: a name in the target's folder that is ours to use.
        sha256: of the new bytes.
        state: what the file is to have besides its bytes; the times only where ``modified_ns`` is not negative.

    Raises:
        OSError: it could not be done; the target is untouched.
    """
    remove(staged)
    try:
        copy_flushed(content, staged, sha256)
        _dress(staged, state)
        os.rename(staged, target)
    except OSError:
        with contextlib.suppress(OSError):
            remove(staged)
        raise
    # Flushed after the swap: until then a power cut may show the old file, but never half of one.
    flush_folder(os.path.dirname(target))


def put_link(leads_to: str, target: HostPath, staged: HostPath) -> None:
    """Make a symbolic link where nothing stands.

    Args:
        leads_to: its target, as it is to stand in it.
        target: where it is made.
        staged: a name in the same folder that is ours to use.

    Raises:
        OSError: it could not be done, or something stands there.
    """
    remove(staged)
    if os.path.lexists(target):
        raise FileExistsError(17, "something stands there by now", target)
    os.symlink(leads_to, staged)
    os.rename(staged, target)
    flush_folder(os.path.dirname(target))


def remove(path: HostPath) -> None:
    """Take a file of ours away, if it is there. Raises: OSError."""
    with contextlib.suppress(FileNotFoundError):
        os.unlink(path)
        flush_folder(os.path.dirname(path))


def flush_folder(folder: str) -> None:
    """Have the folder's entries on the disk. Raises: OSError."""
    handle = os.open(folder, os.O_RDONLY | getattr(os, "O_DIRECTORY", 0))
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _dress(path: HostPath, state: FileState) -> None:
    status = os.stat(path)
    if (status.st_uid, status.st_gid) != (state.uid, state.gid):
        os.chown(path, state.uid, state.gid)
    os.chmod(path, state.mode)
    for name, value in state.attributes:
        _set_attribute(path, name, value)
    if state.modified_ns >= 0:
        os.utime(path, ns=(state.accessed_ns, state.modified_ns))
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _set_attribute(path: HostPath, name: str, value: bytes) -> None:
    """Set an extended attribute. The system's own, such as a security label, it sets itself where we may not."""
    try:
        os.setxattr(path, name, value)
    except OSError:
        if name.startswith("user."):
            raise
