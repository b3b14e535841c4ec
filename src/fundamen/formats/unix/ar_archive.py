"""Read archives of object files (static libraries): which symbols they offer, and what their members are.

Source: ar(5) for the common form; System V gABI, ch. 7, "Archive File" for the symbol index; GNU binutils'
bfd/archive.c for names in a table of their own ("//"), the 64-bit index ("/SYM64/") and thin archives; ranlib(5).
"""

import struct
from collections.abc import Iterator

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

MAGIC, THIN_MAGIC = b"!<arch>\n", b"!<thin>\n"
_HEADER = struct.Struct("16s12s6s6s8s10s2s")
_HEADER_END = b"`\n"
_MOST_MEMBERS = 200_000
_MOST_SYMBOLS = 5_000_000
_BSD_INDEX = ("__.SYMDEF", "__.SYMDEF SORTED", "__.SYMDEF_64", "__.SYMDEF_64 SORTED")
_COFF_MACHINES = {0x14C: "x86", 0x8664: "x86_64", 0xAA64: "aarch64", 0x1C4: "armv7"}
_IMPORT_OBJECT = b"\0\0\xff\xff"  # the first four bytes of a short import, whose machine follows its version


class Member(msgspec.Struct, frozen=True):
    """One file of an archive."""

    name: str
    offset: int  # of its bytes, from the start of the archive; 0 in a thin archive, whose members lie outside it
    size: int  # bytes


class Archive(msgspec.Struct, frozen=True):
    """A static library, or an import library."""

    members: tuple[Member, ...]
    symbols: frozenset[str] | None  # of its index; None where it has none, so that no linker finds anything in it
    is_thin: bool


def read_archive(source: ByteSource) -> Archive:
    """Read an archive's headers and its symbol index.

    Raises:
        DamagedFileError: it begins like none, is cut short, or its index does not fit.
    """
    magic = source.read_at(0, len(MAGIC))
    if magic not in {MAGIC, THIN_MAGIC}:
        raise _damaged_archive(source, say("formats.it-begins-with-which-is-no", magic=magic[:8].hex(" ")))
    is_thin = magic == THIN_MAGIC
    members: list[Member] = []
    symbols: frozenset[str] | None = None
    long_names = b""
    for raw, offset, size in _headers(source, is_thin=is_thin):
        if raw in {"/", "/SYM64/"}:
            symbols = _index(source, offset, size, "Q" if raw == "/SYM64/" else "I")
        elif raw == "//":
            long_names = Cursor(source, offset).take(size, say("formats.table-of-long-names"))
        elif raw.startswith("#1/"):  # BSD's way: the name stands before the member's bytes
            length = _number(source, raw[3:], say("formats.length-of-a-name"))
            name = Cursor(source, offset).take(min(length, size), "name").rstrip(b"\0").decode("utf-8", "replace")
            if name in _BSD_INDEX:
                symbols = _bsd_index(source, offset + length, size - length)
            else:
                members.append(Member(name, offset + length, size - length))
        elif raw in _BSD_INDEX:
            symbols = _bsd_index(source, offset, size)
        else:
            members.append(Member(_name(source, raw, long_names), 0 if is_thin else offset, size))
    return Archive(tuple(members), symbols, is_thin)


def machine_of_object(head: bytes) -> str:
    """The architecture that a COFF object or a short import names in its first bytes; empty where it is neither."""
    at = 6 if head.startswith(_IMPORT_OBJECT) else 0
    return _COFF_MACHINES.get(int.from_bytes(head[at : at + 2], "little"), "")


def _headers(source: ByteSource, *, is_thin: bool) -> Iterator[tuple[str, int, int]]:
    """Raw name, place and size of each part; the members of a thin archive take no room in it."""
    cursor = Cursor(source, len(MAGIC))
    for _ in range(_MOST_MEMBERS):
        if cursor.at >= source.size:
            return
        name, _, _, _, _, size_text, end = cursor.unpack(_HEADER, "member's header")
        if end != _HEADER_END:
            raise _damaged_archive(source, say("formats.the-header-that-should-end-at", at=cursor.at))
        size = _number(source, size_text.decode("ascii", "replace"), say("formats.size-of-a-member"))
        raw = name.decode("utf-8", "replace").rstrip(" ")
        at = cursor.at
        takes_room = not is_thin or raw in {"/", "//", "/SYM64/"}
        if takes_room and at + size > source.size:
            raise _damaged_archive(
                source,
                say("formats.its-member-takes-bytes-to-but", raw=raw, at=at, other_at=at + size, size=source.size),
            )
        yield raw, at, size
        cursor.at = at + (size + size % 2 if takes_room else 0)
    raise _damaged_archive(source, say("formats.it-claims-more-than-members", most_members=_MOST_MEMBERS))


def _index(source: ByteSource, offset: int, size: int, word: str) -> frozenset[str]:
    """A count, as many places, as many NUL-terminated names; numbers are big-endian."""
    number = struct.Struct(">" + word)
    count = number.unpack(Cursor(source, offset).take(number.size, "symbol index"))[0]
    names_at = number.size * (1 + count)
    if count > _MOST_SYMBOLS or names_at > size:
        raise _damaged_archive(source, say("formats.its-index-of-bytes-claims-symbols", size=size, count=count))
    names = Cursor(source, offset + names_at).take(size - names_at, say("formats.names-of-the-symbol-index"))
    return frozenset(name.decode("utf-8", "surrogateescape") for name in names.split(b"\0")[:count])


def _bsd_index(source: ByteSource, offset: int, size: int) -> frozenset[str]:
    """A size, pairs of places, a size, names; numbers are of the host that made it, little-endian today."""
    data = Cursor(source, offset).take(size, "symbol index")
    pairs_size = int.from_bytes(data[:4], "little")
    names = data[4 + pairs_size + 4 :]
    return frozenset(name.decode("utf-8", "surrogateescape") for name in names.split(b"\0") if name)


def _name(source: ByteSource, raw: str, long_names: bytes) -> str:
    if not raw.startswith("/"):
        return raw.removesuffix("/")
    at = _number(source, raw[1:], say("formats.place-of-a-long-name"))
    return long_names[at:].partition(b"\n")[0].decode("utf-8", "replace").removesuffix("/")


def _number(source: ByteSource, text: str, what: str) -> int:
    digits = text.strip()
    if not (digits.isascii() and digits.isdigit()):
        raise _damaged_archive(source, say("formats.the-is-which-is-no-number", what=what, digits=digits))
    return int(digits)


def _damaged_archive(source: ByteSource, why: str) -> DamagedFileError:
    return damage_error(say("formats.the-archive", name=printable(source.name)), why)
