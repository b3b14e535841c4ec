"""Read which functions a PE file imports from each library.

Source: Microsoft's PE Format specification, Import Lookup Table and Hint/Name Table.
"""

import struct

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.windows.pe import ImportedLibrary, Pe, cursor_at
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_MAX_FUNCTIONS = 100_000
_PIECE = 512  # entries that are read at once: how many there are is shown only by the zero behind them
_HINT_SIZE = 2  # bytes before the name


class Function(msgspec.Struct, frozen=True):
    """One function or variable that is imported: by name, or by number alone."""

    name: str | None
    ordinal: int | None = None

    def __str__(self) -> str:
        return self.name if self.name is not None else f"#{self.ordinal}"


def read_imported_functions(source: ByteSource, pe: Pe, library: ImportedLibrary) -> tuple[Function, ...]:
    """Read what one entry of the import tables names.

    Raises:
        DamagedFileError: the table does not fit the file.
    """
    what = say("formats.list-of-functions-from", name=library.name)
    size, by_ordinal = (8, 1 << 63) if pe.is_pe32_plus else (4, 1 << 31)
    entries: list[int] = []
    cursor = cursor_at(source, pe, library.lookup_rva, what)
    while len(entries) < _MAX_FUNCTIONS:
        count = min(_PIECE, (source.size - cursor.at) // size)
        piece = struct.unpack(f"<{count}{'Q' if pe.is_pe32_plus else 'I'}", cursor.take(count * size, what))
        if 0 in piece:
            entries += piece[: piece.index(0)]
            return tuple(_function(source, pe, entry, by_ordinal) for entry in entries)
        if not piece:
            break
        entries += piece
    raise DamagedFileError(
        what=say("formats.the-imports-of-cannot-be-read", name=source.name),
        why=say("formats.its-has-no-end", what=what),
        do=say("formats.compare-the-file-with-its-publisher"),
    )


def _function(source: ByteSource, pe: Pe, entry: int, by_ordinal: int) -> Function:
    if entry & by_ordinal:
        return Function(None, entry & 0xFFFF)
    cursor = cursor_at(source, pe, entry & 0x7FFF_FFFF, say("formats.imported-function-name"))
    cursor.at += _HINT_SIZE
    return Function(cursor.text(say("formats.imported-function-name")))
