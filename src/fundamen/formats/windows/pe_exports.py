"""Read what a PE library offers to others.

Source: Microsoft's PE Format specification, The .edata Section.
"""

import struct

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import damage_error
from fundamen.formats.windows.pe import EXPORT_TABLE, DataDirectory, Pe, cursor_at
from fundamen.messages import say

_MAX_EXPORTS = 1_000_000
_MAX_NAMES_AT_ONCE = 32 << 20  # bytes
_LONGEST_NAME = 4096  # bytes


class ExportTable(msgspec.Struct, frozen=True):
    """The exports of a library: by name, by ordinal, and forwarded ones."""

    names: dict[str, int]  # name -> index into addresses
    base: int  # the ordinal of index 0
    addresses: tuple[int, ...]  # RVAs; 0 where the number is not used
    forwarders: dict[int, str]  # index -> "LIBRARY.Function" or "LIBRARY.#ordinal", for what is passed on

    def index_of(self, name: str | None, ordinal: int | None) -> int | None:
        """Where an imported name or number stands in the table; None where the library does not offer it."""
        if name is not None:
            return self.names.get(name)
        index = (ordinal or 0) - self.base
        return index if 0 <= index < len(self.addresses) and self.addresses[index] else None

    def all_names(self) -> tuple[str, ...]:
        """All names in the order of the name table, then what has a number only, as ``#12``."""
        named = set(self.names.values())
        numbers = (i for i, address in enumerate(self.addresses) if address and i not in named)
        return (*self.names, *(f"#{self.base + index}" for index in numbers))


_NOTHING = ExportTable({}, 0, (), {})


def read_exports(source: ByteSource, pe: Pe) -> ExportTable:
    """Read the export table.

    Raises:
        DamagedFileError: the table does not fit the file.
    """
    rva, size = pe.directories[DataDirectory.EXPORT] if pe.directories else (0, 0)
    if not rva:
        return _NOTHING
    fields = cursor_at(source, pe, rva, "export table").unpack(EXPORT_TABLE, "export table")
    _, _, _, _, _, base, function_count, name_count, functions_rva, names_rva, ordinals_rva = fields
    if max(function_count, name_count) > _MAX_EXPORTS:
        raise damage_error(
            say("formats.the-exports-of", name=source.name),
            say("formats.its-export-table-claims-entries", function_count=max(function_count, name_count)),
        )
    addresses = _numbers(source, pe, functions_rva, function_count, "I", "export addresses")
    pointers = _numbers(source, pe, names_rva, name_count, "I", "export names")
    indexes = _numbers(source, pe, ordinals_rva, name_count, "H", "export ordinals")
    names = dict(zip(_texts(source, pe, pointers), indexes, strict=True))
    # An address inside the export directory itself is no code, but the text that names where to go on.
    forwarders = {
        index: cursor_at(source, pe, address, "forwarder").text("forwarder")
        for index, address in enumerate(addresses)
        if rva <= address < rva + size
    }
    return ExportTable({name: i for name, i in names.items() if i < function_count}, base, addresses, forwarders)


def _numbers(source: ByteSource, pe: Pe, rva: int, count: int, code: str, what: str) -> tuple[int, ...]:
    if not count:
        return ()
    data = cursor_at(source, pe, rva, what).take(count * struct.calcsize(code), what)
    return struct.unpack(f"<{count}{code}", data)


def _texts(source: ByteSource, pe: Pe, pointers: tuple[int, ...]) -> list[str]:
    """The texts at some RVAs. They lie side by side as a rule, and are then read at once."""
    if not pointers:
        return []
    first, last = min(pointers), max(pointers)
    start, end = pe.offset_of(first), pe.offset_of(last)
    if start is None or end is None or end - start != last - first or last - first > _MAX_NAMES_AT_ONCE:
        return [cursor_at(source, pe, pointer, "export name").text("export name") for pointer in pointers]
    data = source.read_at(start, last - first + _LONGEST_NAME)
    texts = []
    for pointer in pointers:
        at = pointer - first
        terminator = data.find(b"\0", at, at + _LONGEST_NAME)
        if terminator < 0:
            raise damage_error(
                say("formats.the-exports-of", name=source.name), say("formats.a-name-at-rva-has-no", pointer=pointer)
            )
        texts.append(data[at:terminator].decode("utf-8", "surrogateescape"))
    return texts
