"""Write files of our own (reports, plans, captures, keys, cases, ...) so that each is the old one or the new one.

New content is written under an unguessable name and flushed; then it replaces the old file or link. A link at the
end of the path is not followed.
"""

import contextlib
import hashlib
import os
from collections.abc import Iterator
from typing import BinaryIO

from fundamen.placing.flushing import flush_folder

_PIECE = 1 << 18  # bytes
_MODE = 0o666  # less what the caller's umask takes away
_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL
_NEW |= getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)


@contextlib.contextmanager
def written_whole(path: str, mode: int = _MODE) -> Iterator[BinaryIO]:
    """A file to be filled: it takes its place once the block has ended well. Its folder is made if need be.

    Raises:
        OSError: it cannot be written; the old file is unchanged.
    """
    folder = os.path.dirname(path) or "."
    os.makedirs(folder, exist_ok=True)
    ours = os.path.join(folder, f".fundamen-{os.urandom(8).hex()}")
    try:
        with os.fdopen(os.open(ours, _NEW, mode), "w+b") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        os.replace(ours, path)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(ours)
        raise
    if os.name == "posix":
        flush_folder(folder)


def write_whole(path: str, data: bytes, mode: int = _MODE) -> None:
    """Write a file whole, or not at all. Raises: OSError."""
    with written_whole(path, mode) as file:
        file.write(data)


def copy_whole(source: str, path: str, most: int) -> str:
    """Copy at most ``most`` bytes of a file in the same way, and give their SHA-256. Raises: OSError."""
    state = hashlib.sha256()
    with open(source, "rb") as original, written_whole(path) as file:
        left = most
        while left > 0 and (piece := original.read(min(_PIECE, left))):
            state.update(piece)
            file.write(piece)
            left -= len(piece)
    return state.hexdigest()


def remove_own(path: str) -> None:
    """Remove a file of ours, if it exists. Raises: OSError."""
    with contextlib.suppress(FileNotFoundError):
        os.unlink(path)
