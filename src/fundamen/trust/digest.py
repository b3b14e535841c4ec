"""Digests of files, read in pieces."""

import hashlib
from typing import Literal

from fundamen.formats.cursor import ByteSource

_PIECE = 1 << 18  # bytes

Algorithm = Literal["sha256", "md5"]


def digest_of(source: ByteSource, algorithm: Algorithm = "sha256") -> str:
    """The digest of all bytes of a source, in lower-case hexadecimal."""
    return digest_bytes(source, algorithm).hex()


def digest_bytes(source: ByteSource, algorithm: str) -> bytes:
    """The same for any algorithm that hashlib names, as bytes."""
    state = hashlib.new(algorithm, usedforsecurity=False)
    offset = 0
    while piece := source.read_at(offset, _PIECE):
        state.update(piece)
        offset += len(piece)
    return state.digest()
