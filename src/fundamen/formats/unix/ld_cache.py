"""Read and write /etc/ld.so.cache: which library names the Linux loader knows, and where they lie.

Source of the layouts: glibc's sysdeps/generic/dl-cache.h, struct cache_file and file_entry, cache_file_new and
file_entry_new; of the order, its elf/dl-cache.c (_dl_cache_libcmp), by which the loader searches.
"""

import re
import struct
import sys
from collections.abc import Iterable

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_OLD_MAGIC = b"ld.so-1.7.0\0"
_MAGIC = b"glibc-ld.so.cache1.1"
_OLD_HEADER = struct.Struct("=12sI")
_OLD_ENTRY = struct.Struct("=iII")
_HEADER = struct.Struct("=20sIIB3xI12x")
_ENTRY = struct.Struct("=iIIIQ")
_MAX_ENTRIES = 1_000_000
_BYTE_ORDER = 2 if sys.byteorder == "little" else 3  # flags of the header, cache_file_new_flags_endian_*
_EXTENSION_BIT = 1 << 62  # of hwcap: the entry lies in a glibc-hwcaps folder


class CacheEntry(msgspec.Struct, frozen=True):
    """One library that the cache lists."""

    name: str
    path: str
    flags: int  # kind of libc and the architecture's id
    hwcap: int  # the processor features it demands; bit 62 set for a glibc-hwcaps folder

    @property
    def is_in_hwcaps_folder(self) -> bool:
        """Whether the library lies in a glibc-hwcaps folder, for newer processors only."""
        return bool(self.hwcap & _EXTENSION_BIT)


def read_ld_cache(source: ByteSource) -> dict[str, tuple[CacheEntry, ...]]:
    """Read all entries, by library name, each name's in the order of the file, which is the loader's.

    Raises:
        DamagedFileError: the file is no such cache, is cut short, or was written with the other byte order.
    """
    cursor = Cursor(source)
    if source.read_at(0, len(_OLD_MAGIC)) == _OLD_MAGIC:
        _, count = cursor.unpack(_OLD_HEADER, "old cache's header")
        end_of_old = cursor.at + count * _OLD_ENTRY.size
        end_of_old += -end_of_old % 8
        if source.read_at(end_of_old, len(_MAGIC)) != _MAGIC:  # no new cache follows the old one
            return _read_old(source, cursor, count)
        cursor.at = end_of_old
    start = cursor.at
    magic, count, strings_size, _, _ = cursor.unpack(_HEADER, "header")
    if magic != _MAGIC or count > _MAX_ENTRIES:
        raise _no_cache(source)
    records = list(cursor.table(_ENTRY, count, "entries"))
    strings_at = cursor.at - start  # offsets count from the start of the new cache
    strings = cursor.take(strings_size, "strings")
    found = ((flags, key - strings_at, value - strings_at, hwcap) for flags, key, value, _, hwcap in records)
    return _by_name(found, strings)


def write_ld_cache(entries: Iterable[CacheEntry]) -> bytes:
    """A cache with some entries, none of them in a glibc-hwcaps folder; the last part of each path is its name."""
    ordered = sorted(entries, key=lambda entry: (_order(entry.name), entry.flags), reverse=True)
    strings_at = _HEADER.size + len(ordered) * _ENTRY.size
    strings, records = bytearray(), bytearray()
    for entry in ordered:
        path = entry.path.encode("utf-8", "surrogateescape")
        at = strings_at + len(strings)
        name_at = at + len(path) - len(entry.name.encode("utf-8", "surrogateescape"))
        records += _ENTRY.pack(entry.flags, name_at, at, 0, entry.hwcap)
        strings += path + b"\0"
    return _HEADER.pack(_MAGIC, len(ordered), len(strings), _BYTE_ORDER, 0) + bytes(records) + bytes(strings)


def _order(name: str) -> list[tuple[int, int]]:
    """The key by which the loader compares names: numbers by their value, and behind every other character."""
    parts = re.findall(rb"\d+|[^\d]", name.encode("utf-8", "surrogateescape"), re.DOTALL)
    # Characters are signed there: those beyond ASCII come first.
    return [(1, int(part)) if part.isdigit() else (0, (part[0] ^ 0x80) - 0x80) for part in parts]


def _read_old(source: ByteSource, cursor: Cursor, count: int) -> dict[str, tuple[CacheEntry, ...]]:
    """The layout of glibc before 2.2, which ldconfig still writes on demand; offsets count from behind the entries."""
    if count > _MAX_ENTRIES:
        raise _no_cache(source)
    records = list(cursor.table(_OLD_ENTRY, count, "old entries"))
    strings = cursor.take(source.size - cursor.at, "old strings")
    return _by_name(((flags, key, value, 0) for flags, key, value in records), strings)


def _by_name(records: Iterable[tuple[int, int, int, int]], strings: bytes) -> dict[str, tuple[CacheEntry, ...]]:
    entries: dict[str, list[CacheEntry]] = {}
    for flags, key, value, hwcap in records:
        name, path = _string(strings, key), _string(strings, value)
        entries.setdefault(name, []).append(CacheEntry(name, path, flags, hwcap))
    return {name: tuple(found) for name, found in entries.items()}


def _no_cache(source: ByteSource) -> DamagedFileError:
    return damage_error(f"{source.name}", say("formats.it-is-no-cache-of-the"))


def _string(strings: bytes, at: int) -> str:
    end = strings.find(b"\0", at) if at >= 0 else -1
    return strings[at:end].decode("utf-8", "surrogateescape") if end >= 0 else ""
