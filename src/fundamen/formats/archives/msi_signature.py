"""Read the signature of an install package (MSI), and take the digest that it is over.

Source: MS-CFB for the parts; that the streams are hashed in the order of their names, each storage's class identifier
behind its streams, and that a second stream covers names, sizes and times, is how Windows Installer has it.
"""

import hashlib
from collections.abc import Iterable

from fundamen.formats.archives.compound_file import CompoundFile, StorageEntry

SIGNATURE = "\x05DigitalSignature".encode("utf-16-le")
EXTENDED = "\x05MsiDigitalSignatureEx".encode("utf-16-le")
_MOST_SIGNATURE = 1 << 20  # bytes
_MOST_EXTENDED = 64


def read_signature(package: CompoundFile) -> bytes | None:
    """The package's signature, a CMS ContentInfo; None where it has none.

    Raises:
        DamagedFileError: the stream that holds it is damaged.
    """
    entry = _find(package, SIGNATURE)
    return package.content(entry, _MOST_SIGNATURE) if entry is not None else None


def package_digest(package: CompoundFile, algorithm: str) -> bytes:
    """The digest of all that a publisher signs; one that fits nothing where names, sizes or times were changed.

    Raises:
        DamagedFileError: a stream is damaged.
    """
    state = hashlib.new(algorithm, usedforsecurity=False)
    extended = _find(package, EXTENDED)
    if extended is not None:
        described = hashlib.new(algorithm, usedforsecurity=False)
        _describe(package.root, described, is_root=True)
        if package.content(extended, _MOST_EXTENDED) != described.digest():
            return b""
        state.update(described.digest())
    _hash(package, package.root, state, is_root=True)
    return state.digest()


def _find(package: CompoundFile, name: bytes) -> StorageEntry | None:
    return next((entry for entry in package.root.entries if entry.name == name and entry.is_stream), None)


def _hashed_streams(storage: StorageEntry, *, is_root: bool) -> Iterable[StorageEntry]:
    """The hashed streams of a storage, in the order of the encoded names."""
    left_out = {SIGNATURE, EXTENDED} if is_root else set()
    return sorted((entry for entry in storage.entries if entry.name not in left_out), key=lambda entry: entry.name)


def _hash(package: CompoundFile, storage: StorageEntry, state: "hashlib._Hash", *, is_root: bool) -> None:
    for entry in _hashed_streams(storage, is_root=is_root):
        if entry.is_stream:
            for piece in package.pieces(entry):
                state.update(piece)
        else:
            _hash(package, entry, state, is_root=False)
    state.update(storage.class_id)


def _describe(storage: StorageEntry, state: "hashlib._Hash", *, is_root: bool) -> None:
    _describe_one(storage, state, is_root=is_root)
    for entry in _hashed_streams(storage, is_root=is_root):
        if entry.is_stream:
            _describe_one(entry, state, is_root=False)
        else:
            _describe(entry, state, is_root=False)


def _describe_one(entry: StorageEntry, state: "hashlib._Hash", *, is_root: bool) -> None:
    if not is_root:
        state.update(entry.name)
    state.update(entry.size.to_bytes(8, "little")[:4] if entry.is_stream else entry.class_id)
    state.update(entry.state.to_bytes(4, "little"))
    if not is_root:
        state.update(entry.created.to_bytes(8, "little") + entry.modified.to_bytes(8, "little"))
