"""An open host file as a source of bytes that reads little."""

import os
import stat
import sys
from types import TracebackType
from typing import IO, Self

from fundamen.formats.byte_source import ByteSource
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.paths import HostPath

_BLOCK = 4096  # bytes
_MOST_UNSIZED = 1 << 20  # bytes of a file that states no size
# O_NONBLOCK: a named pipe that took a file's place must not hold us up.
_FLAGS = os.O_RDONLY | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
_LEAVE_ACCESS_TIME = getattr(os, "O_NOATIME", 0)
_HANDED_OVER = ("/dev/stdin", "/dev/fd/", "/proc/self/fd/")  # open already, so nothing is waited for as it is opened


if sys.platform == "win32":

    def read_from(file: int, size: int, offset: int) -> bytes:
        """Read at an offset; each file is read by one thread only."""
        os.lseek(file, offset, os.SEEK_SET)
        return os.read(file, size)

else:
    read_from = os.pread


class FileBytes(ByteSource):
    """A file read by offset. Small reads are served from the block that the last small read brought in.

    Reading leaves the file's access time alone where the system lets us (O_NOATIME), so that examining changes nothing.
    """

    def __init__(self, path: HostPath | Place, name: str) -> None:
        """Open the file. Raises: OSError."""
        self._file = path.open_quietly() if isinstance(path, Place) else open_quietly(path)
        try:
            stated_size = require_ordinary(self._file, name).st_size
            self._head = read_from(self._file, _BLOCK, 0) if stated_size else _read_unsized(self._file)
        except OSError:
            os.close(self._file)
            raise
        super().__init__(name, stated_size or len(self._head))
        self._block_at = 0
        self._block = self._head

    def _read(self, offset: int, size: int) -> bytes:
        end = offset + size
        if end <= len(self._head):
            return self._head[offset:end]
        if not (self._block_at <= offset and end <= self._block_at + len(self._block)):
            data = read_from(self._file, max(size, _BLOCK), offset)
            if size > _BLOCK:
                return data
            self._block_at, self._block = offset, data
        start = offset - self._block_at
        return self._block[start : start + size]

    def close(self) -> None:
        """Close the file."""
        os.close(self._file)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, _type: type[BaseException] | None, _e: BaseException | None, _t: TracebackType | None) -> None:
        self.close()


def open_ordinary(path: str) -> IO[bytes]:
    """Open a host file that someone named, for reading. A pipe or device that no one writes to would hold us up.

    Raises:
        OSError: it cannot be opened, or is a pipe, device or socket; what another process hands over
            (``/dev/stdin``, ``/dev/fd/N``) is read all the same.
    """
    handle = os.open(path, _FLAGS)
    try:
        if not path.startswith(_HANDED_OVER):
            require_ordinary(handle, path)
        if hasattr(os, "set_blocking"):
            os.set_blocking(handle, True)
    except OSError:
        os.close(handle)
        raise
    return os.fdopen(handle, "rb")


def require_ordinary(handle: int, path: str) -> os.stat_result:
    """See that an open file is no pipe, device or socket, and give its status. Raises: OSError."""
    status = os.fstat(handle)
    if not stat.S_ISREG(mode := status.st_mode) and (stat.S_ISFIFO(mode) or stat.S_ISCHR(mode) or stat.S_ISSOCK(mode)):
        raise OSError(0, say("machine.it-is-a-pipe-device-or"), path)
    return status


def _read_unsized(file: int) -> bytes:
    """All bytes of a file that states a size of 0, as files of /proc do. Source: proc(5)."""
    data = b""
    while len(data) < _MOST_UNSIZED and (piece := read_from(file, _MOST_UNSIZED - len(data), len(data))):
        data += piece
    return data


def open_quietly(path: HostPath) -> int:
    """Open a file for reading without a trace in its access time, where the system lets us. Raises: OSError."""
    try:
        return os.open(path, _FLAGS | _LEAVE_ACCESS_TIME)
    except PermissionError:  # only the file's owner may ask for that
        return os.open(path, _FLAGS)
