"""Read the code signature that a Mach-O slice carries, and compare its page hashes with the bytes that it signs.

What is read is how far the signature covers the file and whether the bytes are those that were signed; by whom, its
CMS part would say. Source of the layouts: XNU's osfmk/kern/cs_blobs.h.
"""

import hashlib
import struct
from enum import IntEnum

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.formats.mac.macho_slice import Slice
from fundamen.formats.mac.property_list import read_property_list
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

_SUPER_BLOB, _CODE_DIRECTORY = 0xFADE0CC0, 0xFADE0C02
_HEADER = struct.Struct(">III")  # magic, length, count
_ENTRY = struct.Struct(">II")  # kind of the blob, its offset
_DIRECTORY = struct.Struct(">9I4BI")  # CS_CodeDirectory up to spare2
_AT_TEAM, _AT_LONG_LIMIT = 48, 56  # bytes into the directory, from versions 0x20200 and 0x20300 on
_HAS_TEAM, _HAS_LONG_LIMIT = 0x20200, 0x20300
_ENTITLEMENTS = 0xFADE7171
_ADHOC, _RESTRICT, _LIBRARY_VALIDATION, _RUNTIME = 0x2, 0x800, 0x2000, 0x10000  # flags
_MAY_USE_ENVIRONMENT = "com.apple.security.cs.allow-dyld-environment-variables"
_MAY_LOAD_ANYBODYS = "com.apple.security.cs.disable-library-validation"
_MOST_BLOBS = 100
_MOST_PAGES = 4_000_000
_LONGEST_PAGE = 24  # as a power of two


class HashType(IntEnum):
    """Values of hashType."""

    SHA1 = 1
    SHA256 = 2
    SHA256_TRUNCATED = 3
    SHA384 = 4


_ALGORITHMS: dict[int, tuple[str, int]] = {
    HashType.SHA1: ("sha1", 20),
    HashType.SHA256: ("sha256", 32),
    HashType.SHA256_TRUNCATED: ("sha256", 20),
    HashType.SHA384: ("sha384", 48),
}


class CodeSignature(msgspec.Struct, frozen=True):
    """The signature of a slice: digests of its pages, its team, its flags."""

    identifier: str
    team: str | None
    flags: int  # CS_*
    hash_type: int  # often a HashType
    page_size: int  # bytes; 0 where all is hashed as one page
    covered: int  # bytes from the start of the slice
    hashes: tuple[bytes, ...]  # of the pages, in order
    entitlements: frozenset[str] = frozenset()  # those that it has

    @property
    def is_ad_hoc(self) -> bool:
        """Whether it was made without any certificate: it proves integrity, and no publisher."""
        return bool(self.flags & _ADHOC)

    @property
    def heeds_environment(self) -> bool:
        """Whether the loader's variables count for a program with this signature."""
        return not self.flags & (_RESTRICT | _RUNTIME) or _MAY_USE_ENVIRONMENT in self.entitlements

    @property
    def demands_own_team(self) -> bool:
        """Whether a program with this signature may load only libraries of its own team, and those of the system."""
        return bool(self.flags & (_LIBRARY_VALIDATION | _RUNTIME)) and _MAY_LOAD_ANYBODYS not in self.entitlements


def read_signature(source: ByteSource, part: Slice) -> CodeSignature | None:
    """Read the signature with the strongest hashes; None where the slice carries none.

    Raises:
        DamagedFileError: the signature does not fit the file, or holds no directory of pages.
    """
    if part.signature is None:
        return None
    start = part.offset + part.signature.offset
    cursor = Cursor(source, start)
    magic, length, count = cursor.unpack(_HEADER, "code signature")
    if magic != _SUPER_BLOB or count > _MOST_BLOBS or length > part.signature.size:
        raise _damaged_signature(
            source, say("formats.it-begins-with-claims-bytes-and", magic=magic, length=length, count=count)
        )
    blobs = [
        (Cursor(source, start + offset).unpack(_ENTRY, "part of the code signature"), start + offset)
        for _, offset in cursor.table(_ENTRY, count, "index of the code signature")
        if offset < length
    ]
    directories = [_read_directory(source, at, start + length - at) for (m, _), at in blobs if m == _CODE_DIRECTORY]
    if not directories:
        raise _damaged_signature(source, say("formats.it-holds-no-directory-of-the"))
    strongest = max(directories, key=lambda each: _ALGORITHMS.get(each.hash_type, ("", 0))[1])
    granted = [
        _granted_entitlements(Cursor(source, at).take(size, "entitlements"))
        for (m, size), at in blobs
        if m == _ENTITLEMENTS
    ]
    return msgspec.structs.replace(strongest, entitlements=frozenset().union(*granted))


def find_altered_page(source: ByteSource, part: Slice, signature: CodeSignature) -> int | None:
    """The number of the first page whose bytes are not those that were signed; None where all are, or it is unknown.

    Raises:
        DamagedFileError: the file ends before what the signature covers.
    """
    name, size = _ALGORITHMS.get(signature.hash_type, ("", 0))
    page_size = signature.page_size or signature.covered
    if not name or not page_size:
        return None
    for index, expected in enumerate(signature.hashes):
        begin = index * page_size
        page = Cursor(source, part.offset + begin).take(
            min(page_size, signature.covered - begin), say("formats.page", index=index)
        )
        if hashlib.new(name, page, usedforsecurity=False).digest()[:size] != expected:
            return index
    return None


def _read_directory(source: ByteSource, start: int, room: int) -> CodeSignature:
    cursor = Cursor(source, start)
    fields = cursor.unpack(_DIRECTORY, "code directory")
    _, length, version, flags, hashes_at, identifier_at, _, count, limit = fields[:9]
    hash_size, hash_type, _, page_power, _ = fields[9:]
    if length > room or count > _MOST_PAGES or page_power > _LONGEST_PAGE:
        raise _damaged_signature(
            source,
            say("formats.its-directory-claims-bytes-pages-of", length=length, count=count, page_power=page_power),
        )
    if version >= _HAS_LONG_LIMIT:
        cursor.at = start + _AT_LONG_LIMIT
        limit = cursor.unpack(struct.Struct(">Q"), "code limit")[0] or limit
    cursor.at = start + hashes_at
    table = cursor.take(count * hash_size, say("formats.hashes-of-the-pages"))
    page_size = 1 << page_power if page_power else 0
    if limit > count * page_size if page_size else count > 1:
        raise _damaged_signature(source, say("formats.its-hashes-do-not-fit-the", count=count, limit=limit))
    return CodeSignature(
        identifier=Cursor(source, start + identifier_at).text("identifier"),
        team=_team(source, start) if version >= _HAS_TEAM else None,
        flags=flags,
        hash_type=hash_type,
        page_size=page_size,
        covered=limit,
        hashes=tuple(table[at : at + hash_size] for at in range(0, len(table), hash_size)) if hash_size else (),
    )


def _granted_entitlements(blob: bytes) -> frozenset[str]:
    """The entitlements that are true; none where the list cannot be read, as for the system."""
    try:
        values = read_property_list(blob[_ENTRY.size :], say("formats.list-of-entitlements"))
    except DamagedFileError:
        return frozenset()
    return frozenset(key for key, value in values.items() if value is True)


def _team(source: ByteSource, start: int) -> str | None:
    offset = Cursor(source, start + _AT_TEAM).unpack(struct.Struct(">I"), "place of the team")[0]
    return Cursor(source, start + offset).text("team") if offset else None


def _damaged_signature(source: ByteSource, why: str) -> DamagedFileError:
    return damage_error(say("formats.the-code-signature-of", name=printable(source.name)), why)
