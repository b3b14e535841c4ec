"""Open entries below a folder without following any link, not even one created meanwhile.

Sources: openat2(2), RESOLVE_BENEATH and RESOLVE_NO_SYMLINKS; where the kernel has it not, or it is barred, one name
after the other by openat(2) with O_NOFOLLOW.
"""

import errno
import functools
import os
import sys
from collections.abc import Callable

from fundamen.messages import say

FOLDER = getattr(os, "O_PATH", os.O_RDONLY) | getattr(os, "O_DIRECTORY", 0)  # what a folder is opened with, to go on
_ALWAYS = getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_NOFOLLOW", 0)
_OPENAT2 = 437  # the number of the call, the same for every processor
_NO_MAGIC_LINKS, _NO_LINKS, _BENEATH = 0x02, 0x04, 0x08
_NOT_HERE = {errno.ENOSYS, errno.EPERM, errno.EINVAL, errno.E2BIG}

_Open = Callable[[int, bytes, int, int], int]


def open_below(folder: int, path: str, flags: int, mode: int = 0) -> int:
    """Open the entry at a path below an open folder.

    Args:
        folder: the handle of the folder; nothing above it is ever reached.
        path: names with slashes between; empty for the folder itself.
        flags: as open(2) has them.
        mode: permission bits of what is made.

    Raises:
        OSError: it cannot be opened. ELOOP: a link is on the way or at the end. EXDEV: the path climbs.
    """
    if not path:
        return os.open(".", flags | _ALWAYS, mode, dir_fd=folder)
    parts = path.split("/")
    if "\0" in path:
        raise OSError(errno.EINVAL, say("machine.its-path-has-a-nul-in"), path)
    if "" in parts or "." in parts or ".." in parts:
        raise OSError(errno.EXDEV, say("machine.its-path-leads-out-of-the"), path)
    at_once = _at_once() if len(parts) > 1 else None  # one name leads nowhere else, and open(2) is quicker
    if at_once is None:
        return _one_by_one(folder, parts, flags | _ALWAYS, mode)
    return at_once(folder, os.fsencode(path), flags | _ALWAYS, mode)


def _one_by_one(folder: int, parts: list[str], flags: int, mode: int) -> int:
    reached = folder
    try:
        for part in parts[:-1]:
            below = os.open(part, FOLDER | _ALWAYS, dir_fd=reached)
            if reached != folder:
                os.close(reached)
            reached = below
        return os.open(parts[-1], flags, mode, dir_fd=reached)
    except NotADirectoryError as error:
        # So says Linux of a link that is opened with O_NOFOLLOW and O_DIRECTORY, too.
        if _is_link(reached, str(error.filename)):
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), error.filename) from error
        raise
    finally:
        if reached != folder:
            os.close(reached)


def _is_link(folder: int, name: str) -> bool:
    try:
        os.readlink(name, dir_fd=folder)
    except OSError:
        return False
    return True


@functools.cache
def _at_once() -> _Open | None:
    """Function that opens a path in one system call; None if the system has none."""
    if sys.platform != "linux":
        return None
    import ctypes  # noqa: PLC0415 - only where something below a folder is open_beneath

    class How(ctypes.Structure):
        _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))

    call = ctypes.CDLL(None, use_errno=True).syscall
    call.restype = ctypes.c_long
    size = ctypes.sizeof(How)

    def open_beneath(folder: int, path: bytes, flags: int, mode: int) -> int:
        how = How(flags, mode, _NO_MAGIC_LINKS | _NO_LINKS | _BENEATH)
        while True:
            handle = int(call(_OPENAT2, folder, ctypes.c_char_p(path), ctypes.byref(how), size))
            if handle >= 0:
                return handle
            code = ctypes.get_errno()
            if code not in {errno.EINTR, errno.EAGAIN}:
                raise OSError(code, os.strerror(code), os.fsdecode(path))

    root = os.open("/", FOLDER)
    try:
        os.close(open_beneath(root, b".", FOLDER, 0))
    except OSError as error:
        if error.errno not in _NOT_HERE:
            raise
        return None
    finally:
        os.close(root)
    return open_beneath
