"""Write files of our own so that each is either the old one or the new one, whole."""

import hashlib
import os
from collections.abc import Callable
from typing import BinaryIO

_PIECE = 1 << 18  # bytes


def write_whole(path: str, data: bytes) -> None:
    """Write a file beside its place, flush it, and put it there; its folder is made if need be. Raises: OSError."""
    _put(path, lambda file: file.write(data))


def copy_whole(source: str, path: str, most: int) -> str:
    """Copy at most ``most`` bytes of a file in the same way, and give their SHA-256. Raises: OSError."""
    state = hashlib.sha256()

    def fill(file: BinaryIO) -> None:
        left = most
        with open(source, "rb") as original:
            while left > 0 and (piece := original.read(min(_PIECE, left))):
                state.update(piece)
                file.write(piece)
                left -= len(piece)

    _put(path, fill)
    return state.hexdigest()


def _put(path: str, fill: Callable[[BinaryIO], object]) -> None:
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path + ".part", "wb") as file:
        fill(file)
        file.flush()
        os.fsync(file.fileno())
    os.replace(path + ".part", path)
