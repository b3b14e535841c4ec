"""Read which symbols a Mach-O slice imports, from which of its libraries, and when each must be there.

Source: Apple's mach-o/fixup-chains.h (chained fixups), mach-o/loader.h (BIND_OPCODE_*), mach-o/nlist.h.
"""

import struct

import msgspec

from fundamen.formats.byte_source import ByteSource, MemoryBytes
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.formats.mac.macho_slice import Extent, Slice
from fundamen.formats.mac.macho_symbols import is_import, read_symbols, read_uleb
from fundamen.messages import say
from fundamen.model.binary import Necessity
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

ITSELF, THE_PROGRAM, ANY_LIBRARY, WEAKLY = 0, -1, -2, -3  # library ordinals that name no library

_BIND_AT_LOAD = 0x8  # MH_BINDATLOAD
_MOST_IMPORTS = 2_000_000
_LONGEST_NAME = 16_384  # bytes
_WEAK_REFERENCE = 0x40  # in n_desc
_WEAK_IMPORT = 0x1  # in the flags of BIND_OPCODE_SET_SYMBOL_TRAILING_FLAGS_IMM
_FIXUPS_HEADER = "7I"
_CHAINED_IMPORT, _CHAINED_IMPORT_ADDEND, _CHAINED_IMPORT_ADDEND64 = 1, 2, 3


class Import(msgspec.Struct, frozen=True):
    """One symbol that a slice takes from another file."""

    name: str
    ordinal: int  # 1 for the first library that the slice loads; 0 and less as above
    how: Necessity


def read_imports(source: ByteSource, part: Slice) -> tuple[Import, ...]:
    """The symbols that the loader binds, by the table that it uses.

    Raises:
        DamagedFileError: the table does not fit the file.
    """
    if part.fixups is not None and part.fixups.size:
        return tuple(_read_chained(source, part, part.fixups))
    if part.bindings:
        at_start, at_first_call = part.bindings
        later = Necessity.REQUIRED if part.flags & _BIND_AT_LOAD else Necessity.DELAYED
        return (
            *_read_bound(source, part, at_start, Necessity.REQUIRED),
            *_read_bound(source, part, at_first_call, later),
        )
    return tuple(
        Import(
            name,
            _sign_extend(description >> 8, 8),
            Necessity.OPTIONAL if description & _WEAK_REFERENCE else Necessity.DELAYED,
        )
        for name, type_, description, value in read_symbols(source, part)
        if is_import(type_, value)
    )


def _read_chained(source: ByteSource, part: Slice, extent: Extent) -> list[Import]:
    """The import table of chained fixups; all of it is bound at the start."""
    start = part.offset + extent.offset
    header = struct.Struct(part.order + _FIXUPS_HEADER)
    _, _, imports_at, names_at, count, kind, names_format = Cursor(source, start).unpack(header, "chained fixups")
    if count > _MOST_IMPORTS or names_format != 0 or max(imports_at, names_at) > extent.size:
        raise _damaged_imports(
            source,
            say("formats.its-chained-fixups-claim-imports-at", count=count, imports_at=imports_at, names_at=names_at),
        )
    names = Cursor(source, start + names_at).take(extent.size - names_at, say("formats.names-of-the-imports"))
    imports = []
    for ordinal, is_weak, name_at in _import_records(Cursor(source, start + imports_at), count, kind, part.order):
        end = names.find(b"\0", name_at, name_at + _LONGEST_NAME)
        if end < 0:
            raise _damaged_imports(source, say("formats.an-imported-name-at-has-no", name_at=name_at, count=len(names)))
        name = names[name_at:end].decode("utf-8", "surrogateescape")
        imports.append(Import(name, ordinal, Necessity.OPTIONAL if is_weak else Necessity.REQUIRED))
    return imports


def _import_records(cursor: Cursor, count: int, kind: int, order: str) -> list[tuple[int, bool, int]]:
    """Ordinal, whether it may be missing, and the place of the name. Source: struct dyld_chained_import and its kin."""
    if kind == _CHAINED_IMPORT_ADDEND64:
        wide = cursor.table(struct.Struct(order + "QQ"), count, "imports")
        return [(_sign_extend(w & 0xFFFF, 16), bool(w >> 16 & 1), w >> 32) for w, _ in wide]
    record = struct.Struct(order + ("Ii" if kind == _CHAINED_IMPORT_ADDEND else "I"))
    return [(_sign_extend(w & 0xFF, 8), bool(w >> 8 & 1), w >> 9) for w, *_ in cursor.table(record, count, "imports")]


def _read_bound(source: ByteSource, part: Slice, extent: Extent, how: Necessity) -> dict[Import, None]:
    """The symbols that a binding program binds, each once, in the program's order. Source: loader.h, BIND_OPCODE_*."""
    program = Cursor(source, part.offset + extent.offset).take(extent.size, "bindings")
    cursor = Cursor(MemoryBytes(program, source.name))
    found: dict[Import, None] = {}
    name, ordinal, is_weak = "", 0, False
    while cursor.at < len(program):
        byte = cursor.take(1, "binding")[0]
        opcode, immediate = byte & 0xF0, byte & 0x0F
        match opcode:
            case 0x10:  # BIND_OPCODE_SET_DYLIB_ORDINAL_IMM
                ordinal = immediate
            case 0x20:  # _SET_DYLIB_ORDINAL_ULEB
                ordinal = read_uleb(cursor)
            case 0x30:  # _SET_DYLIB_SPECIAL_IMM
                ordinal = immediate - 16 if immediate else 0
            case 0x40:  # _SET_SYMBOL_TRAILING_FLAGS_IMM
                name, is_weak = cursor.text("imported name", _LONGEST_NAME), bool(immediate & _WEAK_IMPORT)
            case 0x90 | 0xB0:  # _DO_BIND, _DO_BIND_ADD_ADDR_IMM_SCALED
                found[Import(name, ordinal, Necessity.OPTIONAL if is_weak else how)] = None
            case 0xA0 | 0xC0:  # _DO_BIND_ADD_ADDR_ULEB, _DO_BIND_ULEB_TIMES_SKIPPING_ULEB
                found[Import(name, ordinal, Necessity.OPTIONAL if is_weak else how)] = None
                _skip_numbers(cursor, 1 if opcode == 0xA0 else 2)  # noqa: PLR2004 - the opcode of the line above
            case 0x60 | 0x70 | 0x80:  # _SET_ADDEND_SLEB, _SET_SEGMENT_AND_OFFSET_ULEB, _ADD_ADDR_ULEB
                _skip_numbers(cursor, 1)
            case 0xD0 if immediate == 0:  # _THREADED, _SUBOPCODE_THREADED_SET_BIND_ORDINAL_TABLE_SIZE_ULEB
                _skip_numbers(cursor, 1)
            case _:  # _DONE, which also stands between the entries that are bound at the first call; _SET_TYPE_IMM
                pass
    return found


def _skip_numbers(cursor: Cursor, count: int) -> None:
    for _ in range(count):
        read_uleb(cursor)


def _sign_extend(number: int, bits: int) -> int:
    """Special ordinals are the highest numbers of their field. Source: loader.h, BIND_SPECIAL_DYLIB_*."""
    return number - (1 << bits) if number > (1 << bits) - 16 else number


def _damaged_imports(source: ByteSource, why: str) -> DamagedFileError:
    return damage_error(say("formats.the-imports-of", name=printable(source.name)), why)
