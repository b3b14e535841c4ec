"""Sign a thin Mach-O file again, as XNU's cs_blobs.h lays a signature out, but with no one's certificate."""

import hashlib
import plistlib
import struct

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.mac.macho import read_macho

_PAGE = 4096


def signed(data: bytes, *, team: str = "", flags: int = 0, entitlements: tuple[str, ...] = ()) -> bytes:
    """The file with another signature in place of the one that it has at its end."""
    [part] = read_macho(MemoryBytes(data)).slices
    assert part.signature is not None
    at, old_size = part.signature.offset, part.signature.size
    names = b"tide\0" + team.encode() + b"\0"
    count = -(-at // _PAGE)
    hashes_at = 52 + len(names)
    granted = plistlib.dumps(dict.fromkeys(entitlements, True))
    size = 12 + 16 + hashes_at + 32 * count + 8 + len(granted)
    size += -size % 16
    # The load command, and the segment that ends with the signature, say how long it is.
    head = data[:at].replace(struct.pack("<4I", 0x1D, 16, at, old_size), struct.pack("<4I", 0x1D, 16, at, size))
    linkedit = part.segments[-1].extent
    old, new = (struct.pack("<QQ", linkedit.offset, linkedit.size + more) for more in (0, size - old_size))
    head = head.replace(old, new)
    hashes = b"".join(hashlib.sha256(head[begin : begin + _PAGE]).digest() for begin in range(0, at, _PAGE))
    numbers = (52 + len(names) + len(hashes), 0x20200, flags, hashes_at, 52, 0, count, at)
    directory = struct.pack(">9I4BIII", 0xFADE0C02, *numbers, 32, 2, 0, 12, 0, 0, 52 + 5 if team else 0)
    directory += names + hashes
    list_at = 12 + 16 + len(directory)
    blob = struct.pack(">7I", 0xFADE0CC0, size, 2, 0, 28, 5, list_at) + directory
    blob += struct.pack(">II", 0xFADE7171, 8 + len(granted)) + granted
    return head + blob.ljust(size, b"\0")
