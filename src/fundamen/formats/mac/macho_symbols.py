"""Read which symbols a Mach-O slice offers to others, and its symbol table.

Source: Apple's mach-o/nlist.h, and mach-o/loader.h on the exports trie ("export_off").
"""

import struct

from fundamen.formats.byte_source import ByteSource, MemoryBytes
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.formats.mac.macho_slice import Extent, Slice
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

_RECORDS = {
    (order, bits): struct.Struct(f"{order}IBBH{word}") for order in "<>" for bits, word in ((32, "I"), (64, "Q"))
}
_STAB, _PRIVATE, _TYPE, _EXTERNAL = 0xE0, 0x10, 0x0E, 0x01  # masks of n_type
_UNDEFINED = 0
_MOST_SYMBOLS = 2_000_000
_LONGEST_NAME = 16_384  # bytes; names of templates are long
_MOST_NAMES_SIZE = 256 << 20  # bytes of all names of a trie; a small trie could spell out far more


def read_exports(source: ByteSource, part: Slice) -> tuple[str, ...]:
    """The names that a slice offers, sorted: from its exports trie or, where it has none, from its symbol table.

    Raises:
        DamagedFileError: the table does not fit the file.
    """
    if part.exports_trie is not None and part.exports_trie.size:
        return tuple(sorted(_trie_names(source, part, part.exports_trie)))
    return tuple(
        sorted(
            name
            for name, type_, _, value in read_symbols(source, part)
            if type_ & _EXTERNAL and not type_ & _PRIVATE and (type_ & _TYPE != _UNDEFINED or value)
        )
    )


def is_import(type_: int, value: int) -> bool:
    """Whether a symbol of the table is taken from another file."""
    return bool(type_ & _EXTERNAL) and type_ & _TYPE == _UNDEFINED and value == 0


def read_symbols(source: ByteSource, part: Slice) -> list[tuple[str, int, int, int]]:
    """Name, n_type, n_desc and n_value of each symbol that is not for debuggers, in the order of the table.

    Raises:
        DamagedFileError: the table does not fit the file.
    """
    symtab = part.symtab
    if symtab is None:
        return []
    if symtab.count > _MOST_SYMBOLS:
        raise _damaged_symbols(source, say("formats.its-symbol-table-claims-symbols", count=symtab.count))
    names = Cursor(source, part.offset + symtab.strings_at).take(symtab.strings_size, "symbol names")
    cursor = Cursor(source, part.offset + symtab.symbols_at)
    found = []
    for name_at, type_, _, description, value in cursor.table(
        _RECORDS[part.order, part.bits], symtab.count, "symbol table"
    ):
        if not type_ & _STAB:
            end = names.find(b"\0", name_at, name_at + _LONGEST_NAME)
            if end < 0:
                raise _damaged_symbols(
                    source, say("formats.a-symbol-name-at-has-no", name_at=name_at, count=len(names))
                )
            found.append((names[name_at:end].decode("utf-8", "surrogateescape"), type_, description, value))
    return found


def _trie_names(source: ByteSource, part: Slice, extent: Extent) -> list[str]:
    """All names of the trie; every node is entered once, so that a loop in a hostile one has an end."""
    data = Cursor(source, part.offset + extent.offset).take(extent.size, "exports trie")
    trie = MemoryBytes(data, source.name)
    waiting = [(0, b"")]
    entered = {0}
    names: list[str] = []
    size = 0
    while waiting:
        at, prefix = waiting.pop()
        cursor = Cursor(trie, at)
        terminal_size = read_uleb(cursor)
        if terminal_size:
            names.append(prefix.decode("utf-8", "surrogateescape"))
            size += len(prefix)
        cursor.at += terminal_size
        for _ in range(cursor.take(1, "count of a node's children")[0]):
            edge = cursor.text("edge of the exports trie", _LONGEST_NAME).encode("utf-8", "surrogateescape")
            child = read_uleb(cursor)
            if child in entered or len(prefix) + len(edge) > _LONGEST_NAME or size > _MOST_NAMES_SIZE:
                raise _damaged_symbols(source, say("formats.its-exports-trie-leads-from-byte", at=at, child=child))
            entered.add(child)
            waiting.append((child, prefix + edge))
    return names


def read_uleb(cursor: Cursor) -> int:
    """Read a number of 7 bits a byte, the lowest first. Source: DWARF 5, 7.6."""
    value = shift = 0
    while True:
        byte = cursor.take(1, "number of the exports trie")[0]
        value |= (byte & 0x7F) << shift
        shift += 7
        if not byte & 0x80 or shift > 63:  # noqa: PLR2004 - the bits of the largest number that is meant
            return value


def _damaged_symbols(source: ByteSource, why: str) -> DamagedFileError:
    return damage_error(say("formats.the-symbols-of", name=printable(source.name)), why)
