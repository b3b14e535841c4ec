"""Read a PE file's certificate table, and take the digest that a publisher's signature is over.

Sources: PE Format, "The Attribute Certificate Table"; "Windows Authenticode Portable Executable Signature Format",
"Calculating the PE Image Hash".
"""

import struct

import msgspec

from fundamen.formats.byte_source import ByteSource, digest_of_ranges
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.formats.windows.pe import DataDirectory, Pe
from fundamen.messages import say
from fundamen.model.display import printable

_ENTRY = struct.Struct("<IHH")  # dwLength, wRevision, wCertificateType
_U32 = struct.Struct("<I")
_PKCS_SIGNED_DATA = 2
_REVISIONS = {0x100, 0x200}  # WIN_CERT_REVISION_1_0, _2_0
_ALIGNED_TO = 8
_LFANEW_AT = 0x3C
_OPTIONAL_HEADER_AT = 24  # bytes from the PE signature on
_CHECKSUM_AT = 64  # bytes into the optional header
_DIRECTORIES_AT = 96, 112  # likewise: of a PE32 header, of a PE32+ header
_DIRECTORY_SIZE = 8
_MOST_ENTRIES = 16


class CertificateTable(msgspec.Struct, frozen=True):
    """The content of a file's certificate table."""

    offset: int  # bytes from the start of the file
    size: int  # bytes
    signatures: tuple[bytes, ...]  # each a CMS ContentInfo, perhaps with padding behind it


def read_certificate_table(source: ByteSource, pe: Pe) -> CertificateTable | None:
    """Read the certificate table; None where the file has none.

    Raises:
        DamagedFileError: the table does not fit the file, or its entries do not fit the table.
    """
    if len(pe.directories) <= DataDirectory.SECURITY or pe.directories[DataDirectory.SECURITY] == (0, 0):
        return None
    offset, size = pe.directories[DataDirectory.SECURITY]  # its address is an offset into the file
    cursor = Cursor(source, offset)
    end = offset + size
    signatures: list[bytes] = []
    while cursor.at + _ENTRY.size <= min(end, source.size):
        length, revision, kind = cursor.unpack(_ENTRY, "certificate table")
        if length < _ENTRY.size or cursor.at - _ENTRY.size + length > end or len(signatures) == _MOST_ENTRIES:
            raise damage_error(
                say("formats.the-certificate-table-of", name=printable(source.name)),
                say("formats.an-entry-claims-bytes", length=length),
            )
        if revision not in _REVISIONS:
            raise damage_error(
                say("formats.the-certificate-table-of", name=printable(source.name)),
                say("formats.an-entry-is-of-revision", revision=revision),
            )
        content = cursor.take(length - _ENTRY.size, "certificate table")
        if kind == _PKCS_SIGNED_DATA:
            signatures.append(content)
        cursor.at += -length % _ALIGNED_TO
    if end > source.size or not signatures:
        raise damage_error(
            say("formats.the-certificate-table-of", name=printable(source.name)),
            say("formats.it-holds-no-signature-that-fits"),
        )
    return CertificateTable(offset, size, tuple(signatures))


def image_digest(source: ByteSource, pe: Pe, algorithm: str) -> bytes:
    """The digest of all that a publisher signs: everything but the checksum, the table's directory entry and the table.

    Raises:
        DamagedFileError: a header does not fit the file.
    """
    ranges = []
    at = 0
    for begin, end in _left_out(source, pe):
        ranges.append((at, begin))
        at = end
    filling = -source.size % _ALIGNED_TO if _table_at(source, pe) is None else 0  # a signer fills it up first
    return digest_of_ranges(source, algorithm, [*ranges, (at, source.size)], filling)


def _left_out(source: ByteSource, pe: Pe) -> list[tuple[int, int]]:
    """The ranges of the file that no signature covers, from the first to the last."""
    (header_at,) = Cursor(source, _LFANEW_AT).unpack(_U32, "MS-DOS header")
    optional_at = header_at + _OPTIONAL_HEADER_AT
    checksum_at = optional_at + _CHECKSUM_AT
    entry_at = optional_at + _DIRECTORIES_AT[pe.is_pe32_plus] + DataDirectory.SECURITY * _DIRECTORY_SIZE
    ranges = [(checksum_at, checksum_at + _U32.size)]
    if len(pe.directories) > DataDirectory.SECURITY:
        ranges.append((entry_at, entry_at + _DIRECTORY_SIZE))
    table = _table_at(source, pe)
    return [*ranges, table] if table is not None else ranges


def _table_at(source: ByteSource, pe: Pe) -> tuple[int, int] | None:
    offset, size = pe.directories[DataDirectory.SECURITY] if len(pe.directories) > DataDirectory.SECURITY else (0, 0)
    return (offset, min(offset + size, source.size)) if size and 0 < offset <= source.size else None
