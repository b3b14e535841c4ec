"""Read which symbols a loader must find for an ELF file: those that its relocations name and that it does not define.

Source: System V gABI, ch. 4 ("Relocation", "Symbol Table") and ch. 5 ("Dynamic Section").
"""

import struct

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.formats.unix.elf import Elf, Tag
from fundamen.formats.unix.elf_symbols import read_symbol_names
from fundamen.messages import say

_RELA = 7  # DT_RELA, as DT_PLTREL spells it
_BIND_NOW = 0x8  # DF_BIND_NOW of DT_FLAGS
_NOW = 0x1  # DF_1_NOW of DT_FLAGS_1
_MOST_RELOCATIONS = 4_000_000


class BoundSymbols(msgspec.Struct, frozen=True):
    """The symbols that must come from elsewhere; weak ones, which may be missing, left out."""

    at_start: frozenset[str]  # before the first instruction
    at_first_call: frozenset[str]


def read_bound_symbols(source: ByteSource, elf: Elf) -> BoundSymbols:
    """Read the names of all symbols that relocations ask of other files.

    Raises:
        DamagedFileError: a table does not fit the file.
    """
    data = _indexes(source, elf, Tag.RELA, Tag.RELASZ, with_addend=True)
    data |= _indexes(source, elf, Tag.REL, Tag.RELSZ, with_addend=False)
    calls = _indexes(source, elf, Tag.JMPREL, Tag.PLTRELSZ, with_addend=elf.tag(Tag.PLTREL) == _RELA)
    if (elf.tag(Tag.FLAGS) or 0) & _BIND_NOW or (elf.tag(Tag.FLAGS_1) or 0) & _NOW or elf.tag(Tag.BIND_NOW) is not None:
        data, calls = data | calls, set()
    names = read_symbol_names(source, elf, data | calls)
    at_start = frozenset(names[index] for index in data if index in names)
    return BoundSymbols(at_start, frozenset(names[index] for index in calls if index in names) - at_start)


def _indexes(source: ByteSource, elf: Elf, table: Tag, size: Tag, *, with_addend: bool) -> set[int]:
    """The indexes of the symbols that a table of relocations names."""
    address, length = elf.tag(table), elf.tag(size) or 0
    offset = elf.offset_of(address) if address is not None else None
    if address is None or length == 0:
        return set()
    if offset is None:
        raise damage_error(
            say("formats.the-relocations-of", name=source.name),
            say("formats.the-table-lies-in-no-segment", name=table.name),
        )
    is_wide = elf.bits == 64  # noqa: PLR2004 - ELFCLASS64
    word, shift = ("Q", 32) if is_wide else ("I", 8)
    record = struct.Struct((">" if elf.big_endian else "<") + word * 2 + ("q" if is_wide else "i") * with_addend)
    count = min(length // record.size, _MOST_RELOCATIONS)
    return {info >> shift for _, info, *_ in Cursor(source, offset).table(record, count, "relocations")} - {0}
