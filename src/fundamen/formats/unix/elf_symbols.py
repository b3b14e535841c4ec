"""Read which symbols an ELF file defines for others.

Source: System V gABI, ch. 4 (Symbol Table) and ch. 5 (Hash Table).
"""

import struct

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.formats.unix.elf import Elf, Tag
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_SYMBOL_64 = struct.Struct("<IBBHQQ")  # st_name, st_info, st_other, st_shndx, st_value, st_size
_SYMBOL_32 = struct.Struct("<IIIBBH")  # st_name, st_value, st_size, st_info, st_other, st_shndx
_MAX_SYMBOLS = 2_000_000
_GLOBAL, _WEAK, _UNIQUE = 1, 2, 10  # STB_*


def read_exports(source: ByteSource, elf: Elf) -> tuple[str, ...]:
    """Read the names of the dynamic symbols that a file defines, in the order of its symbol table.

    The symbol table carries no count of its own; it is taken from DT_HASH or DT_GNU_HASH, as the loader does.

    Raises:
        DamagedFileError: the symbol, string or hash table does not fit the file.
    """
    return tuple(
        name
        for name, section, binding in _symbols(source, elf, None).values()
        if section and binding in {_GLOBAL, _WEAK, _UNIQUE}
    )


def read_string_table(source: ByteSource, elf: Elf) -> frozenset[bytes]:
    """Every name that stands in the dynamic string table: of symbols that are defined or needed, and of libraries.

    Raises:
        DamagedFileError: it does not fit the file.
    """
    address = elf.tag(Tag.STRTAB)
    offset = elf.offset_of(address) if address is not None else None
    if offset is None:
        return frozenset()
    return frozenset(Cursor(source, offset).take(elf.tag(Tag.STRSZ) or 0, "dynamic string table").split(b"\0"))


def read_symbol_names(source: ByteSource, elf: Elf, wanted: set[int]) -> dict[int, str]:
    """The names of those dynamic symbols, of some by their indexes, that must be defined by another file.

    Raises:
        DamagedFileError: the symbol or string table does not fit the file.
    """
    found = _symbols(source, elf, wanted)
    return {i: name for i, (name, section, binding) in found.items() if not section and binding == _GLOBAL}


def _symbols(source: ByteSource, elf: Elf, wanted: set[int] | None) -> dict[int, tuple[str, int, int]]:
    """Name, section and binding of each dynamic symbol, or of the wanted ones, by their indexes."""
    addresses = [elf.tag(tag) for tag in (Tag.SYMTAB, Tag.STRTAB)]
    offsets = [elf.offset_of(address) for address in addresses if address is not None]
    if len(offsets) != len(addresses) or wanted == set():
        return {}
    symbols_at, strings_at = offsets
    if symbols_at is None or strings_at is None:
        raise damage_error(
            say("formats.the-exports-of", name=source.name), say("formats.its-symbol-or-string-table-lies")
        )
    order = ">" if elf.big_endian else "<"
    count = _symbol_count(source, elf, order) if wanted is None else max(wanted) + 1
    if count > _MAX_SYMBOLS:
        raise _too_many(source, count)
    strings = Cursor(source, strings_at).take(elf.tag(Tag.STRSZ) or 0, say("formats.dynamic-string-table"))
    is_wide = elf.bits == 64  # noqa: PLR2004 - ELFCLASS64
    record = struct.Struct(order + (_SYMBOL_64 if is_wide else _SYMBOL_32).format[1:])
    found = {}
    for index, symbol in enumerate(Cursor(source, symbols_at).table(record, count, "symbol table")):
        if wanted is None or index in wanted:
            info, section = (symbol[1], symbol[3]) if is_wide else (symbol[3], symbol[5])
            end = strings.find(b"\0", symbol[0])
            if end > symbol[0]:
                name = strings[symbol[0] : end].decode("utf-8", "surrogateescape")
                found[index] = (name, section, info >> 4)
    return found


def _symbol_count(source: ByteSource, elf: Elf, order: str) -> int:
    word = struct.Struct(order + "I")
    if (address := elf.tag(Tag.HASH)) is not None and (offset := elf.offset_of(address)) is not None:
        count = int(struct.unpack(order + "II", Cursor(source, offset).take(8, "hash table"))[1])
    elif (address := elf.tag(Tag.GNU_HASH)) is not None and (offset := elf.offset_of(address)) is not None:
        count = _gnu_hash_count(Cursor(source, offset), word, elf.bits)
    else:
        count = 0
    if count > _MAX_SYMBOLS:
        raise _too_many(source, count)
    return count


def _too_many(source: ByteSource, count: int) -> DamagedFileError:
    return damage_error(
        say("formats.the-symbols-of", name=source.name), say("formats.a-table-claims-of-them", count=count)
    )


def _gnu_hash_count(cursor: Cursor, word: struct.Struct, bits: int) -> int:
    """Follow the last chain to its end. Source: the GNU hash section as glibc's elf/dl-lookup.c walks it."""
    header = struct.Struct(word.format[0] + "IIII")
    buckets, first, bloom_words, _ = cursor.unpack(header, "GNU hash table")
    cursor.at += bloom_words * bits // 8
    last = max((b for (b,) in cursor.table(word, buckets, "GNU hash buckets")), default=0)
    if last < first:
        return int(first)
    cursor.at += (last - first) * word.size
    while not cursor.unpack(word, "GNU hash chain")[0] & 1:
        last += 1
        if last > _MAX_SYMBOLS:
            break
    return int(last) + 1
