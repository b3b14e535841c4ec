"""Read what a PE library offers to others.

Source: Microsoft's PE Format specification, The .edata Section.
"""

import struct

import msgspec

from fundamen.formats.cursor import ByteSource, Cursor
from fundamen.formats.pe import EXPORT_TABLE, Directory, Pe
from fundamen.model.errors import DamagedFileError

_U16 = struct.Struct("<H")
_U32 = struct.Struct("<I")
_MAX_EXPORTS = 1_000_000


class Export(msgspec.Struct, frozen=True):
    """One function or variable that a library offers."""

    name: str | None  # None where it is exported by ordinal only
    ordinal: int


def read_exports(source: ByteSource, pe: Pe) -> tuple[Export, ...]:
    """Read the export table: named exports in the order of the name table, then those with an ordinal only.

    Raises:
        DamagedFileError: the table does not fit the file.
    """
    rva = pe.directories[Directory.EXPORT][0] if pe.directories else 0
    if not rva:
        return ()
    fields = _at(source, pe, rva, "export table").unpack(EXPORT_TABLE, "export table")
    _, _, _, _, _, base, function_count, name_count, functions_rva, names_rva, ordinals_rva = fields
    if max(function_count, name_count) > _MAX_EXPORTS:
        raise _damaged(source, f"its export table claims {max(function_count, name_count)} entries")
    names: list[Export] = []
    named: set[int] = set()
    if name_count:
        pointers = _at(source, pe, names_rva, "export names").table(_U32, name_count, "export names")
        ordinals = _at(source, pe, ordinals_rva, "export ordinals").table(_U16, name_count, "export ordinals")
        for (name_rva,), (index,) in zip(pointers, ordinals, strict=True):
            names.append(Export(_at(source, pe, name_rva, "export name").text("export name"), base + index))
            named.add(index)
    if not function_count:
        return tuple(names)
    functions = _at(source, pe, functions_rva, "export addresses").table(_U32, function_count, "export addresses")
    unnamed = [Export(None, base + i) for i, (address,) in enumerate(functions) if address and i not in named]
    return (*names, *unnamed)


def _at(source: ByteSource, pe: Pe, rva: int, what: str) -> Cursor:
    offset = pe.offset_of(rva)
    if offset is None:
        raise _damaged(source, f"its {what} at RVA {rva:#x} lies in no section of the file")
    return Cursor(source, offset)


def _damaged(source: ByteSource, why: str) -> DamagedFileError:
    return DamagedFileError(
        what=f"The exports of {source.name} cannot be read",
        why=why,
        do="Compare the file with its publisher's package.",
    )
