"""Digests of files, read in pieces."""

from typing import Literal

from fundamen.formats.byte_source import ByteSource, digest_of_ranges

Algorithm = Literal["sha256", "md5"]


def digest_of(source: ByteSource, algorithm: Algorithm = "sha256") -> str:
    """The digest of all bytes of a source, in lower-case hexadecimal."""
    return digest_bytes(source, algorithm).hex()


def digest_bytes(source: ByteSource, algorithm: str) -> bytes:
    """The same for any algorithm that hashlib names, as bytes."""
    return digest_of_ranges(source, algorithm, [(0, source.size)])
