"""Read which symbols an ELF file defines for others.

Source: System V gABI, ch. 4 (Symbol Table) and ch. 5 (Hash Table).
"""

import struct

from fundamen.formats.cursor import ByteSource, Cursor
from fundamen.formats.elf import Elf, Tag
from fundamen.model.errors import DamagedFileError

_SYMBOL_64 = struct.Struct("<IBBHQQ")  # st_name, st_info, st_other, st_shndx, st_value, st_size
_SYMBOL_32 = struct.Struct("<IIIBBH")  # st_name, st_value, st_size, st_info, st_other, st_shndx
_MAX_SYMBOLS = 2_000_000


def read_exports(source: ByteSource, elf: Elf) -> tuple[str, ...]:
    """Read the names of the dynamic symbols that a file defines, in the order of its symbol table.

    The symbol table carries no count of its own; it is taken from DT_HASH or DT_GNU_HASH, as the loader does.

    Raises:
        DamagedFileError: the symbol, string or hash table does not fit the file.
    """
    addresses = [elf.tag(tag) for tag in (Tag.SYMTAB, Tag.STRTAB)]
    offsets = [elf.offset_of(address) for address in addresses if address is not None]
    if len(offsets) != len(addresses):
        return ()
    symbols_at, strings_at = offsets
    if symbols_at is None or strings_at is None:
        raise DamagedFileError(
            what=f"The exports of {source.name} cannot be read",
            why="its symbol or string table lies in no segment",
            do="Compare the file with its publisher's package.",
        )
    order = ">" if elf.big_endian else "<"
    count = _symbol_count(source, elf, order)
    strings = Cursor(source, strings_at).take(elf.tag(Tag.STRSZ) or 0, "dynamic string table")
    template = _SYMBOL_64 if elf.bits == 64 else _SYMBOL_32  # noqa: PLR2004 - ELFCLASS64
    record = struct.Struct(order + template.format[1:])
    names = []
    for symbol in Cursor(source, symbols_at).table(record, count, "symbol table"):
        info, section = (symbol[1], symbol[3]) if elf.bits == 64 else (symbol[3], symbol[5])  # noqa: PLR2004
        if section and info >> 4 in {1, 2, 10}:  # STB_GLOBAL, STB_WEAK, STB_GNU_UNIQUE
            end = strings.find(b"\0", symbol[0])
            if end > symbol[0]:
                names.append(strings[symbol[0] : end].decode("utf-8", "surrogateescape"))
    return tuple(names)


def _symbol_count(source: ByteSource, elf: Elf, order: str) -> int:
    word = struct.Struct(order + "I")
    if (address := elf.tag(Tag.HASH)) is not None and (offset := elf.offset_of(address)) is not None:
        count = int(struct.unpack(order + "II", Cursor(source, offset).take(8, "hash table"))[1])
    elif (address := elf.tag(Tag.GNU_HASH)) is not None and (offset := elf.offset_of(address)) is not None:
        count = _gnu_hash_count(Cursor(source, offset), word, elf.bits)
    else:
        count = 0
    if count > _MAX_SYMBOLS:
        raise DamagedFileError(
            what=f"The exports of {source.name} cannot be read",
            why=f"its hash table claims {count} symbols",
            do="Compare the file with its publisher's package.",
        )
    return count


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
