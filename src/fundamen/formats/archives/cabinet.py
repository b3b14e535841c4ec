"""Read cabinets: their headers, which further ones belong to them, and the signature in the space that they reserve.

Source: MS-CAB, section 2; where the signature lies, and that everything is covered but the reserved fields and the
signature itself, is how signing tools write it.
"""

import struct
from collections.abc import Callable, Collection

import msgspec

from fundamen.formats.byte_source import ByteSource, digest_of_ranges
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.display import printable

MAGIC = b"MSCF"
_HEADER = struct.Struct("<4sIIIIIBBHHHHH")  # CFHEADER up to iCabinet
_RESERVE = struct.Struct("<HBB")  # cbCFHeader, cbCFFolder, cbCFData
_SIGNATURE = struct.Struct("<IIIQ")  # 0x100000, offset, size, 0
_SIGNATURE_MARK = 0x0010_0000
_HAS_PREVIOUS, _HAS_NEXT, _HAS_RESERVE = 0x1, 0x2, 0x4
_MOST_NAME = 256  # bytes
_MOST_OF_SET = 1000
_MOST_SIGNATURE = 4 << 20  # bytes
# What no signature covers: reserved1, the cabinet's number in its set and the sizes of the reserved fields, and the
# first 16 bytes of the reserved field itself.
_LEFT_OUT = ((4, 8), (34, 56))


class Cabinet(msgspec.Struct, frozen=True):
    """The header of a cabinet."""

    size: int  # bytes, as it claims
    file_count: int
    folder_count: int
    signature_at: int | None  # bytes from the start of the file; None where it has no signature
    signature_size: int = 0
    set_id: int = 0  # the same for all cabinets of a set
    number: int = 0  # within it
    previous: str = ""  # the name of the one before it in its set; empty where it is the first
    following: str = ""  # and of the one behind it
    folders_at: int = 0  # bytes from the start of the file
    files_at: int = 0
    per_folder: int = 0  # bytes that each folder's record reserves
    per_block: int = 0  # and each block's


def read_cabinet(source: ByteSource) -> Cabinet:
    """Read a cabinet's header.

    Raises:
        DamagedFileError: it is no cabinet, or what it claims does not fit the file.
    """
    cursor = Cursor(source)
    mark, reserved1, size, reserved2, files_at, reserved3, _, _, folders, files, flags, set_id, number = cursor.unpack(
        _HEADER, "cabinet header"
    )
    if mark != MAGIC or size > source.size or files_at > source.size:
        raise damage_error(
            say("formats.the-cabinet", name=printable(source.name)),
            say("formats.it-claims-bytes-and-the-file", size=size, other_size=source.size),
        )
    if reserved1 or reserved2 or reserved3:
        raise damage_error(
            say("formats.the-cabinet", name=printable(source.name)), say("formats.fields-that-are-reserved-are-not")
        )
    reserved = per_folder = per_block = 0
    if flags & _HAS_RESERVE:
        reserved, per_folder, per_block = cursor.unpack(_RESERVE, "reserved fields")
    reserved_at = cursor.at
    cursor.at += reserved
    previous, following = (_neighbour(cursor) if flags & flag else "" for flag in (_HAS_PREVIOUS, _HAS_NEXT))
    cabinet = Cabinet(
        size=size,
        file_count=files,
        folder_count=folders,
        signature_at=None,
        set_id=set_id,
        number=number,
        previous=previous,
        following=following,
        folders_at=cursor.at,
        files_at=files_at,
        per_folder=per_folder,
        per_block=per_block,
    )
    if reserved < _SIGNATURE.size:
        return cabinet
    cursor.at = reserved_at
    signature_mark, at, length, _ = cursor.unpack(_SIGNATURE, "reserved field")
    if signature_mark != _SIGNATURE_MARK or not length:
        return cabinet
    # Anything else would let the folders be read from elsewhere than where they were when it was signed.
    is_as_signed = reserved == _SIGNATURE.size and not per_folder and not per_block and at == size
    if at + length > source.size or length > _MOST_SIGNATURE or not is_as_signed:
        raise damage_error(
            say("formats.the-signature-of", name=printable(source.name)),
            say("formats.it-takes-bytes-to-of", at=at, other_at=at + length, size=source.size),
        )
    return msgspec.structs.replace(cabinet, signature_at=at, signature_size=length)


def _neighbour(cursor: Cursor) -> str:
    """The name of a neighbouring cabinet; that of its disk says nothing to us."""
    name = cursor.text(say("formats.name-of-a-cabinet"), _MOST_NAME)
    cursor.text(say("formats.name-of-a-disk"), _MOST_NAME)
    return name


def cabinets_of_set(source: ByteSource, find: Callable[[str], ByteSource | None]) -> tuple[ByteSource, ...]:
    """All cabinets of a set in their order, as far as they are available without a gap.

    Args:
        source: one of them.
        find: gives a cabinet by its name; None where it is not available.

    Raises:
        DamagedFileError: one of them is damaged, or is of another set.
    """
    first, header = source, read_cabinet(source)
    while header.previous and (earlier := find(header.previous)) is not None:
        # The one named may be further back: where the file begins that goes on in this one.
        header = _of_set(earlier, header, range(header.number))
        first = earlier
    found = [first]
    while header.following and (later := find(header.following)) is not None:
        header = _of_set(later, header, (header.number + 1,))
        found.append(later)
    return tuple(found)


def _of_set(source: ByteSource, neighbour: Cabinet, numbers: Collection[int]) -> Cabinet:
    """The header of a cabinet that must be of the same set and have one of these numbers in it: so no set is a ring."""
    header = read_cabinet(source)
    if header.set_id != neighbour.set_id or header.number not in numbers or header.number > _MOST_OF_SET:
        raise damage_error(
            say("formats.the-cabinet", name=printable(source.name)),
            say(
                "formats.it-is-number-of-set-and",
                number=header.number,
                set_id=header.set_id,
                other_number=neighbour.number,
                other_set_id=neighbour.set_id,
            ),
        )
    return header


def read_signature(source: ByteSource, cabinet: Cabinet) -> bytes | None:
    """The signature, a CMS ContentInfo; None where there is none. Raises: DamagedFileError."""
    if cabinet.signature_at is None:
        return None
    return Cursor(source, cabinet.signature_at).take(cabinet.signature_size, "signature")


def cabinet_digest(source: ByteSource, cabinet: Cabinet, algorithm: str) -> bytes:
    """The digest of all that a publisher signs, for a cabinet that has a signature."""
    signature_at = cabinet.signature_at or source.size
    ranges = []
    at = 0
    for begin, end in (*_LEFT_OUT, (signature_at, signature_at + cabinet.signature_size)):
        ranges.append((at, begin))
        at = max(at, end)
    return digest_of_ranges(source, algorithm, [*ranges, (at, source.size)])
