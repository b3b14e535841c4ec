"""Read cabinets: their headers, and the signature in the space that they reserve.

Source: MS-CAB, section 2; where the signature lies, and that everything is covered but the reserved fields and the
signature itself, is how signing tools write it.
"""

import hashlib
import struct

import msgspec

from fundamen.formats.cursor import ByteSource, Cursor, damaged, take_digest
from fundamen.model.paths import shown

MAGIC = b"MSCF"
_HEADER = struct.Struct("<4sIIIIIBBHHHHH")  # CFHEADER up to iCabinet
_RESERVE = struct.Struct("<HBB")  # cbCFHeader, cbCFFolder, cbCFData
_SIGNATURE = struct.Struct("<IIIQ")  # 0x100000, offset, size, 0
_SIGNATURE_MARK = 0x0010_0000
_HAS_RESERVE = 0x4
_MOST_SIGNATURE = 4 << 20  # bytes
# What no signature covers: reserved1, the cabinet's number in its set and the sizes of the reserved fields, and the
# first 16 bytes of the reserved field itself.
_LEFT_OUT = ((4, 8), (34, 56))


class Cabinet(msgspec.Struct, frozen=True):
    """What a cabinet's header says."""

    size: int  # bytes, as it claims
    file_count: int
    folder_count: int
    signature_at: int | None  # bytes from the start of the file; None where it has no signature
    signature_size: int = 0


def read_cabinet(source: ByteSource) -> Cabinet:
    """Read a cabinet's header.

    Raises:
        DamagedFileError: it is no cabinet, or what it claims does not fit the file.
    """
    cursor = Cursor(source)
    mark, reserved1, size, reserved2, files_at, reserved3, _, _, folders, files, flags, _, _ = cursor.unpack(
        _HEADER, "cabinet header"
    )
    if mark != MAGIC or size > source.size or files_at > source.size:
        raise damaged(f"The cabinet {shown(source.name)}", f"it claims {size} bytes, and the file has {source.size}")
    if reserved1 or reserved2 or reserved3:
        raise damaged(f"The cabinet {shown(source.name)}", "fields that are reserved are not zero")
    cabinet = Cabinet(size, files, folders, None)
    if not flags & _HAS_RESERVE:
        return cabinet
    reserved, per_folder, per_block = cursor.unpack(_RESERVE, "reserved fields")
    if reserved < _SIGNATURE.size:
        return cabinet
    signature_mark, at, length, _ = cursor.unpack(_SIGNATURE, "reserved field")
    if signature_mark != _SIGNATURE_MARK or not length:
        return cabinet
    # Anything else would let the folders be read from elsewhere than where they were when it was signed.
    is_as_signed = reserved == _SIGNATURE.size and not per_folder and not per_block and at == size
    if at + length > source.size or length > _MOST_SIGNATURE or not is_as_signed:
        raise damaged(
            f"The signature of {shown(source.name)}", f"it takes bytes {at} to {at + length} of {source.size}"
        )
    return msgspec.structs.replace(cabinet, signature_at=at, signature_size=length)


def read_signature(source: ByteSource, cabinet: Cabinet) -> bytes | None:
    """The signature, a CMS ContentInfo; None where there is none. Raises: DamagedFileError."""
    if cabinet.signature_at is None:
        return None
    return Cursor(source, cabinet.signature_at).take(cabinet.signature_size, "signature")


def cabinet_digest(source: ByteSource, cabinet: Cabinet, algorithm: str) -> bytes:
    """The digest of all that a publisher signs, for a cabinet that has a signature."""
    state = hashlib.new(algorithm, usedforsecurity=False)
    signature_at = cabinet.signature_at or source.size
    at = 0
    for begin, end in (*_LEFT_OUT, (signature_at, signature_at + cabinet.signature_size)):
        take_digest(state, source, at, begin)
        at = max(at, end)
    take_digest(state, source, at, source.size)
    return state.digest()
