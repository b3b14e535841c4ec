"""Find rows in the metadata tables of a managed image.

Source: ECMA-335, 6th edition, Partition II: 22 (the tables), 24.2.1 (metadata root), 24.2.6 (the #~ stream and coded
indexes).
"""

import struct
from bisect import bisect_left
from collections.abc import Iterator
from enum import IntEnum

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_SIGNATURE = 0x424A5342  # "BSJB"
_ROOT = struct.Struct("<IHHII")
_STREAM = struct.Struct("<II")
_TABLES_HEADER = struct.Struct("<IBBBBQQ")
_MAX_STREAMS = 32
_MAX_ROWS = 1 << 24
_MAX_BLOB = 1 << 20  # bytes


class MetadataTable(IntEnum):
    """Numbers of the tables that are read here."""

    TYPE_REF = 0x01
    MEMBER_REF = 0x0A
    CUSTOM_ATTRIBUTE = 0x0C
    MODULE_REF = 0x1A
    IMPL_MAP = 0x1C
    ASSEMBLY = 0x20
    ASSEMBLY_REF = 0x23


# Coded indexes: how many bits name the table, and the tables in the order of those bits; -1 where none is assigned.
_CODED: dict[str, tuple[int, tuple[int, ...]]] = {
    "TypeDefOrRef": (2, (0x02, 0x01, 0x1B)),
    "HasConstant": (2, (0x04, 0x08, 0x17)),
    "HasCustomAttribute": (
        5,
        (6, 4, 1, 2, 8, 9, 0x0A, 0, 0x0E, 0x17, 0x14, 0x11, 0x1A, 0x1B, 0x20, 0x23, 0x26, 0x27, 0x28, 0x2A, 0x2C, 0x2B),
    ),
    "HasFieldMarshal": (1, (0x04, 0x08)),
    "HasDeclSecurity": (2, (0x02, 0x06, 0x20)),
    "MemberRefParent": (3, (0x02, 0x01, 0x1A, 0x06, 0x1B)),
    "HasSemantics": (1, (0x14, 0x17)),
    "MethodDefOrRef": (1, (0x06, 0x0A)),
    "MemberForwarded": (1, (0x04, 0x06)),
    "Implementation": (2, (0x26, 0x23, 0x27)),
    "CustomAttributeType": (3, (-1, -1, 0x06, 0x0A, -1)),
    "ResolutionScope": (2, (0x00, 0x1A, 0x23, 0x01)),
    "TypeOrMethodDef": (1, (0x02, 0x06)),
}

# Columns of each table: 1, 2 or 4 bytes; String, Guid or Blob heap; a table's number in hexadecimal; a coded index.
_COLUMNS: dict[int, str] = {
    0x00: "2 String Guid Guid Guid",
    0x01: "ResolutionScope String String",
    0x02: "4 String String TypeDefOrRef T04 T06",
    0x03: "T04",
    0x04: "2 String Blob",
    0x05: "T06",
    0x06: "4 2 2 String Blob T08",
    0x07: "T08",
    0x08: "2 2 String",
    0x09: "T02 TypeDefOrRef",
    0x0A: "MemberRefParent String Blob",
    0x0B: "2 HasConstant Blob",
    0x0C: "HasCustomAttribute CustomAttributeType Blob",
    0x0D: "HasFieldMarshal Blob",
    0x0E: "2 HasDeclSecurity Blob",
    0x0F: "2 4 T02",
    0x10: "4 T04",
    0x11: "Blob",
    0x12: "T02 T14",
    0x13: "T14",
    0x14: "2 String TypeDefOrRef",
    0x15: "T02 T17",
    0x16: "T17",
    0x17: "2 String Blob",
    0x18: "2 T06 HasSemantics",
    0x19: "T02 MethodDefOrRef MethodDefOrRef",
    0x1A: "String",
    0x1B: "Blob",
    0x1C: "2 MemberForwarded String T1A",
    0x1D: "4 T04",
    0x1E: "4 4",
    0x1F: "4",
    0x20: "4 2 2 2 2 4 Blob String String",
    0x21: "4",
    0x22: "4 4 4",
    0x23: "2 2 2 2 4 Blob String String Blob",
    0x24: "4 T23",
    0x25: "4 4 4 T23",
    0x26: "4 String Blob",
    0x27: "4 4 String String Implementation",
    0x28: "4 4 String Implementation",
    0x29: "T02 T02",
    0x2A: "2 2 TypeOrMethodDef String",
    0x2B: "MethodDefOrRef Blob",
    0x2C: "T2A TypeDefOrRef",
}


class Metadata:
    """The metadata of one image: its rows by table, and its heaps."""

    def __init__(self, source: ByteSource, at: int) -> None:
        """Read the root and the tables' header.

        Args:
            source: the file.
            at: where its metadata root lies, bytes from the start of the file.

        Raises:
            DamagedFileError: the root, a stream or a table does not fit the file.
        """
        self._source = source
        cursor = Cursor(source, at)
        signature, _, _, _, length = cursor.unpack(_ROOT, "metadata root")
        if signature != _SIGNATURE:
            raise _damaged_metadata(source, say("formats.its-metadata-does-not-begin-with"))
        self.version = cursor.take(min(length, 255), "runtime version").partition(b"\0")[0].decode("utf-8", "replace")
        cursor.at = at + _ROOT.size + length
        _, count = cursor.unpack(struct.Struct("<HH"), "stream count")
        self._streams: dict[str, tuple[int, int]] = {}
        for _ in range(min(count, _MAX_STREAMS)):
            offset, size = cursor.unpack(_STREAM, "stream header")
            start = cursor.at
            name = cursor.text("stream name", limit=32)
            cursor.at = start + -(-(len(name) + 1) // 4) * 4
            self._streams[name] = (at + offset, size)
        self._read_header()

    def rows(self, table: MetadataTable) -> Iterator[tuple[int, ...]]:
        """All rows of a table, in order; the first one has the number 1. Raises: DamagedFileError."""
        count = self._counts.get(table, 0)
        if count:
            yield from Cursor(self._source, self._starts[table]).table(self._records[table], count, f"table {table:#x}")

    def row(self, table: int, number: int) -> tuple[int, ...] | None:
        """One row by its number; None where there is none. Raises: DamagedFileError."""
        if not 0 < number <= self._counts.get(table, 0):
            return None
        record = self._records[table]
        return Cursor(self._source, self._starts[table] + (number - 1) * record.size).unpack(
            record, f"table {table:#x}"
        )

    def rows_of(self, table: MetadataTable, parent: int) -> Iterator[tuple[int, ...]]:
        """The rows of a table that is sorted by its first column, in which that column is ``parent`` (II.22).

        Raises:
            DamagedFileError: a row does not fit the file.
        """
        count = self._counts.get(table, 0)

        def first_column(number: int) -> int:
            found = self.row(table, number)
            return found[0] if found is not None else -1

        for number in range(bisect_left(range(1, count + 1), parent, key=first_column) + 1, count + 1):
            row = self.row(table, number)
            if row is None or row[0] != parent:
                return
            yield row

    def text(self, index: int) -> str:
        """A string of the #Strings heap. Raises: DamagedFileError."""
        at, size = self._streams.get("#Strings", (0, 0))
        if index >= size:
            raise _damaged_metadata(self._source, say("formats.it-names-a-string-at-and", index=index, size=size))
        return Cursor(self._source, at + index).text("string")

    def blob(self, index: int) -> bytes:
        """Bytes of the #Blob heap, without the length before them (II.24.2.4). Raises: DamagedFileError."""
        at, size = self._streams.get("#Blob", (0, 0))
        if index >= size:
            raise _damaged_metadata(self._source, say("formats.it-names-a-blob-at-and", index=index, size=size))
        cursor = Cursor(self._source, at + index)
        length = read_compressed(cursor.take(1, "blob length"), cursor)
        if length > min(size, _MAX_BLOB):
            raise _damaged_metadata(self._source, say("formats.a-blob-claims-bytes", length=length))
        return cursor.take(length, "blob")

    def _read_header(self) -> None:
        if "#~" not in self._streams:
            raise _damaged_metadata(self._source, say("formats.its-metadata-has-no-stream"))
        cursor = Cursor(self._source, self._streams["#~"][0])
        _, _, _, heaps, _, valid, _ = cursor.unpack(_TABLES_HEADER, "tables header")
        present = [number for number in range(64) if valid >> number & 1]
        if set(present) - set(_COLUMNS):
            raise _damaged_metadata(
                self._source, say("formats.it-has-tables-of-unknown-form", set=sorted(set(present) - set(_COLUMNS)))
            )
        counts = cursor.table(struct.Struct("<I"), len(present), "row counts")
        self._counts = dict(zip(present, (count for (count,) in counts), strict=True))
        if any(count > _MAX_ROWS for count in self._counts.values()):
            raise _damaged_metadata(self._source, say("formats.a-table-claims-rows", values=max(self._counts.values())))
        self._records = {number: self._record(_COLUMNS[number], heaps) for number in present}
        self._starts: dict[int, int] = {}
        at = cursor.at
        for number in present:
            self._starts[number] = at
            at += self._records[number].size * self._counts[number]

    def _record(self, columns: str, heaps: int) -> struct.Struct:
        wide_heaps = {"String": heaps & 1, "Guid": heaps & 2, "Blob": heaps & 4}
        codes = {"2": "H", "4": "I"}
        form = "<"
        for column in columns.split():
            if column in codes:
                form += codes[column]
            elif column in wide_heaps:
                form += "I" if wide_heaps[column] else "H"
            elif column in _CODED:
                bits, tables = _CODED[column]
                most = max((self._counts.get(table, 0) for table in tables), default=0)
                form += "I" if most >= 1 << (16 - bits) else "H"
            else:
                form += "I" if self._counts.get(int(column[1:], 16), 0) >= 1 << 16 else "H"
        return struct.Struct(form)


def decode_coded_index(column: str, value: int) -> tuple[int, int]:
    """The table and row that a coded index names; table -1 where the tag is assigned to none."""
    bits, tables = _CODED[column]
    tag = value & ((1 << bits) - 1)
    return (tables[tag] if tag < len(tables) else -1), value >> bits


def read_compressed(first: bytes, cursor: Cursor) -> int:
    """A compressed length of which the first byte is read already (II.23.2). Raises: DamagedFileError."""
    head = first[0]
    if head & 0x80 == 0:
        return head
    if head & 0x40 == 0:
        return (head & 0x3F) << 8 | cursor.take(1, "compressed number")[0]
    return (head & 0x1F) << 24 | int.from_bytes(cursor.take(3, "compressed number"), "big")


def _damaged_metadata(source: ByteSource, why: str) -> DamagedFileError:
    return damage_error(say("formats.the-metadata-of", name=source.name), why)
