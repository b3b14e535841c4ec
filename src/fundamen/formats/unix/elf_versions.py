"""Read which symbol versions an ELF file needs of which library, and which ones it defines.

Source: the Linux Standard Base, "Symbol Versioning"; the constants in glibc's elf.h.
"""

import struct
from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.formats.unix.elf import Elf, Tag
from fundamen.messages import say

_WEAK = 0x2  # VER_FLG_WEAK: the loader only warns where such a version is not defined
_NEAR = 4096  # bytes
_MAX_ENTRIES = 65_536


class NeededVersion(msgspec.Struct, frozen=True):
    """One version that a file needs of one library."""

    library: str  # as DT_NEEDED spells it
    hash: int  # of its name, as the gABI hashes symbols
    name_at: int  # of its name, bytes into the dynamic string table
    is_weak: bool


def read_needed_versions(source: ByteSource, elf: Elf) -> tuple[NeededVersion, ...]:
    """Read all versions that a file needs, library by library.

    Raises:
        DamagedFileError: the table does not fit the file, or goes round in a loop.
    """
    order = ">" if elf.big_endian else "<"
    need, auxiliary = struct.Struct(order + "HHIII"), struct.Struct(order + "IHHII")
    found: list[NeededVersion] = []
    tags = elf.tags()
    at = _offset(source, elf, tags, Tag.VERNEED)
    if at is None:
        return ()
    name_of = _names(source, elf, tags)
    table = _Table(source, at, "version needs")
    for _ in range(min(tags.get(Tag.VERNEEDNUM, 0), _MAX_ENTRIES)):
        _, count, file, auxiliary_at, further = table.record(need, at)
        library = name_of(file)
        entry_at = at + auxiliary_at
        for _ in range(min(count, _MAX_ENTRIES - len(found))):
            hashed, flags, _, name, next_at = table.record(auxiliary, entry_at)
            found.append(NeededVersion(library, hashed, name, bool(flags & _WEAK)))
            entry_at += next_at
            if not next_at:
                break
        at += further
        if not further:
            break
    return tuple(found)


def read_defined_versions(source: ByteSource, elf: Elf) -> frozenset[int] | None:
    """Read the hashes of the names of all versions that a file defines; None where it has no versions at all.

    Raises:
        DamagedFileError: the table does not fit the file.
    """
    definition = struct.Struct((">" if elf.big_endian else "<") + "HHHHIII")
    tags = elf.tags()
    at = _offset(source, elf, tags, Tag.VERDEF)
    if at is None:
        return None
    hashes = set()
    table = _Table(source, at, "version definitions")
    for _ in range(min(tags.get(Tag.VERDEFNUM, 0), _MAX_ENTRIES)):
        *_, hashed, _, further = table.record(definition, at)
        hashes.add(hashed)
        at += further
        if not further:
            break
    return frozenset(hashes)


def read_version_name(source: ByteSource, elf: Elf, name_at: int) -> str:
    """A name of the dynamic string table; empty where the table ends before. Raises: DamagedFileError."""
    return _names(source, elf, elf.tags())(name_at)


def _names(source: ByteSource, elf: Elf, tags: Mapping[int, int]) -> Callable[[int], str]:
    """The names of the dynamic string table, by their places in it; empty where it ends before."""
    size = tags.get(Tag.STRSZ, 0)
    strings_at = _offset(source, elf, tags, Tag.STRTAB) if size else None
    if strings_at is None:
        return lambda _at: ""
    return lambda at: Cursor(source, strings_at + at).text("version name") if at < size else ""


class _Table:
    """Records that lie close together: those near the first are served from one read, any other from the file."""

    def __init__(self, source: ByteSource, at: int, what: str) -> None:
        self._source = source
        self._at = at
        self._what = what
        self._near = source.read_at(at, min(_NEAR, max(0, source.size - at)))

    def record(self, layout: struct.Struct, at: int) -> tuple[Any, ...]:
        begin = at - self._at
        if 0 <= begin <= len(self._near) - layout.size:
            return layout.unpack_from(self._near, begin)
        return Cursor(self._source, at).unpack(layout, self._what)


def _offset(source: ByteSource, elf: Elf, tags: Mapping[int, int], tag: Tag) -> int | None:
    address = tags.get(tag)
    if address is None:
        return None
    offset = elf.offset_of(address)
    if offset is None:
        raise damage_error(
            say("formats.the-symbol-versions-of", name=source.name),
            say("formats.its-table-lies-in-no-segment", name=tag.name),
        )
    return offset
