"""Have files and folders on the disk: one by one, or many together where the system can.

Flushing files one by one costs a turn of the disk for each. Linux can be asked to flush a whole file system, which
takes everything along that anybody has written there, and costs one (docs/decisions/0016). Source: fsync(2), syncfs(2).
"""

import contextlib
import functools
import os
import re
import sys
from collections.abc import Callable, Iterable

from fundamen.machine.places import Place
from fundamen.model.paths import HostPath

_MANY = 16  # files; fewer are flushed one by one, so that no one waits for what others have written
_TELLS_ERRORS = (5, 8)  # the version of Linux from which on syncfs tells that something could not be written


def flush_file(path: HostPath) -> None:
    """Have a file on the disk. Raises: OSError."""
    _flush(path, os.O_RDONLY)


def flush_folder(folder: str) -> None:
    """Have the folder's entries on the disk. Raises: OSError."""
    _flush(folder, os.O_RDONLY | getattr(os, "O_DIRECTORY", 0))


def make_lasting(folder: str) -> None:
    """Make a folder of ours, and those above it, so that a power cut does not take them away again. Raises: OSError."""
    missing = []
    while not os.path.isdir(folder):
        missing.append(folder)
        folder = os.path.dirname(folder)
    for each in reversed(missing):
        with contextlib.suppress(FileExistsError):
            os.mkdir(each, mode=0o700)
        flush_folder(os.path.dirname(each))


def flush_all(paths: Iterable[HostPath | Place]) -> None:
    """Have files and folders on the disk, together where that is quicker. Raises: OSError."""
    by_device: dict[int, list[HostPath | Place]] = {}
    for path in dict.fromkeys(paths):
        status = path.status() if isinstance(path, Place) else os.stat(path)
        by_device.setdefault(status.st_dev, []).append(path)
    for together in by_device.values():
        whole = _of_a_file_system() if len(together) >= _MANY else None
        if whole is not None:
            whole(together[0])
            continue
        for path in together:
            if isinstance(path, Place):
                path.flush()
            else:
                flush_file(path)


def _flush(path: str, flags: int) -> None:
    handle = os.open(path, flags)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


@functools.cache
def _of_a_file_system() -> Callable[[HostPath | Place], None] | None:
    """Function that flushes a whole file system and reports errors; None if there is none."""
    version = re.match(r"(\d+)\.(\d+)", os.uname().release) if sys.platform == "linux" else None
    if version is None or (int(version[1]), int(version[2])) < _TELLS_ERRORS:
        return None
    import ctypes  # noqa: PLC0415 - only for large restorations

    syncfs = getattr(ctypes.CDLL(None, use_errno=True), "syncfs", None)
    if syncfs is None:
        return None

    def flush(path: HostPath | Place) -> None:
        handle = path.open(os.O_RDONLY) if isinstance(path, Place) else os.open(path, os.O_RDONLY)
        try:
            if syncfs(handle) != 0:
                code = ctypes.get_errno()
                raise OSError(code, os.strerror(code), path.host if isinstance(path, Place) else path)
        finally:
            os.close(handle)

    return flush
