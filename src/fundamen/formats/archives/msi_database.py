"""Read the tables of an install package (MSI): which product it is, and where each of its files belongs.

Source: the tables are those of the Windows Installer reference; how they lie in the compound file (encoded stream
names, a pool of strings, tables column by column) is as the open implementations of the format have it.
"""

import struct
from collections.abc import Iterator

import msgspec

from fundamen.formats.archives.compound_file import CompoundFile, StorageEntry
from fundamen.formats.archives.property_set import find_text
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_POOL, _DATA = "_StringPool", "_StringData"
_U16, _U32 = struct.Struct("<H"), struct.Struct("<I")
_MOST_STREAM = 256 << 20  # bytes of a table
_MOST_ROWS = 2_000_000
_LONG_REFERENCES = 0x8000_0000  # in the pool's first number: strings are named by three bytes
_SUMMARY = "\x05SummaryInformation".encode("utf-16-le")
_MOST_SUMMARY = 1 << 20  # bytes
_TEMPLATE = 7
# How a column's type is encoded (Windows Installer, "_Columns Table").
_IS_STRING, _IS_VALID, _IS_NULLABLE, _IS_KEY, _SIZE_MASK = 0x0800, 0x0100, 0x1000, 0x2000, 0x00FF
_ALPHABET = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz._"
_IS_TABLE = "\u4840"
_FIRST_PAIR, _FIRST_SINGLE, _LAST = 0x3800, 0x4800, 0x4840

# Windows Installer reference, of each table.
_NEEDED = {
    "Property": {"Property", "Value"},
    "Directory": {"Directory", "Directory_Parent", "DefaultDir"},
    "Component": {"Component", "Directory_"},
    "File": {"File", "Component_", "FileName"},
    "Media": {"Cabinet"},
    "Feature": {"Feature"},
}

Row = dict[str, str | int | None]


class Database(msgspec.Struct, frozen=True):
    """An opened package: its tables, and the streams that hold its files."""

    package: CompoundFile
    tables: dict[str, tuple[Row, ...]]
    streams: dict[str, StorageEntry]  # by their decoded names
    template: str  # platform and languages, as "x64;1033"

    def property(self, name: str) -> str:
        """A value of the table Property; empty where there is none."""
        return next((str(r["Value"] or "") for r in self.tables.get("Property", ()) if r["Property"] == name), "")


def read_database(package: CompoundFile, what: str) -> Database:
    """Read all tables.

    Raises:
        DamagedFileError: a table does not fit its stream, or the strings theirs.
    """
    streams = {_decode_name(entry.name): entry for entry in package.root.entries if entry.is_stream}
    tables = {name[1:]: entry for name, entry in streams.items() if name.startswith("!")}
    try:
        strings, width = _strings(package, tables)
        reader = _Reader(package, tables, strings, width)
        columns = reader.columns()
        _require_columns(columns)
        read = {name: tuple(reader.rows(name, columns[name])) for name in columns if name in tables}
    except (KeyError, IndexError, struct.error, UnicodeDecodeError, LookupError, ValueError) as error:
        raise damage_error(what, say("formats.its-tables-are-damaged", error=error or type(error).__name__)) from error
    plain = {name: entry for name, entry in streams.items() if not name.startswith("!")}
    return Database(package, read, plain, _template(package))


def _template(package: CompoundFile) -> str:
    """Platform and languages; empty where the package does not say, or not in good order."""
    summary = next((entry for entry in package.root.entries if entry.is_stream and entry.name == _SUMMARY), None)
    try:
        return find_text(package.content(summary, _MOST_SUMMARY), _TEMPLATE) if summary is not None else ""
    except DamagedFileError:
        return ""


def _require_columns(columns: dict[str, list[tuple[str, int]]]) -> None:
    """Make sure that the tables which are read here have what is asked of them. Raises: ValueError."""
    for table, needed in _NEEDED.items():
        if table in columns and (missing := needed - {name for name, _ in columns[table]}):
            raise ValueError(say("formats.the-table-has-no-column", table=table, missing=min(missing)))


def _decode_name(name: bytes) -> str:
    """The name of a stream: two letters, digits, dots or underlines to a character. A table's begins with "!"."""
    out: list[str] = []
    for character in name.decode("utf-16-le", "surrogatepass"):
        number = ord(character)
        if character == _IS_TABLE:
            out.append("!")
        elif _FIRST_PAIR <= number < _FIRST_SINGLE:
            out += [_ALPHABET[(number - _FIRST_PAIR) & 0x3F], _ALPHABET[((number - _FIRST_PAIR) >> 6) & 0x3F]]
        elif _FIRST_SINGLE <= number < _LAST:
            out.append(_ALPHABET[number - _FIRST_SINGLE])
        else:
            out.append(character)
    return "".join(out)


def _strings(package: CompoundFile, tables: dict[str, StorageEntry]) -> tuple[list[str], int]:
    """(all strings by their number, how many bytes name one)."""
    pool = package.content(tables[_POOL], _MOST_STREAM)
    data = package.content(tables[_DATA], _MOST_STREAM)
    (head,) = _U32.unpack_from(pool)
    codepage = head & 0xFFFF
    encoding = {0: "cp1252", 65001: "utf-8"}.get(codepage, f"cp{codepage}")
    strings = [""]
    at, offset = _U32.size, 0
    while at + 4 <= len(pool):
        size, count = _U16.unpack_from(pool, at)[0], _U16.unpack_from(pool, at + 2)[0]
        at += 4
        if size == 0 and count != 0 and at + 4 <= len(pool):  # a string of more than 64 KiB: its size follows
            size = count << 16 | _U16.unpack_from(pool, at)[0]
            at += 4
        if offset + size > len(data):
            raise ValueError(
                say(
                    "formats.string-takes-bytes-to-of",
                    count=len(strings),
                    offset=offset,
                    other_offset=offset + size,
                    other_count=len(data),
                )
            )
        strings.append(data[offset : offset + size].decode(encoding, "replace"))
        offset += size
    return strings, 3 if head & _LONG_REFERENCES else 2


class _Reader:
    """Reads tables column by column, as they lie."""

    def __init__(self, package: CompoundFile, tables: dict[str, StorageEntry], strings: list[str], width: int) -> None:
        self._package = package
        self._tables = tables
        self._strings = strings
        self._width = width

    def columns(self) -> dict[str, list[tuple[str, int]]]:
        """The columns of each table with their types, from the table that describes all others."""
        own = [("Table", _IS_STRING | 64), ("Number", 2), ("Name", _IS_STRING | 64), ("Type", 2)]
        found: dict[str, list[tuple[int, str, int]]] = {}
        for row in self.rows("_Columns", own):
            number, kind = row["Number"], row["Type"]
            if isinstance(number, int) and isinstance(kind, int):
                found.setdefault(str(row["Table"]), []).append((number, str(row["Name"]), kind & 0xFFFF))
        return {table: [(name, kind) for _, name, kind in sorted(listed)] for table, listed in found.items()}

    def rows(self, table: str, columns: list[tuple[str, int]]) -> Iterator[Row]:
        data = self._package.content(self._tables[table], _MOST_STREAM)
        widths = [self._width_of(kind) for _, kind in columns]
        row_size = sum(widths)
        count = len(data) // row_size if row_size else 0
        if count > _MOST_ROWS or row_size * count != len(data):
            raise ValueError(
                say("formats.the-table-has-bytes-in-rows", table=table, count=len(data), row_size=row_size)
            )
        starts = [count * sum(widths[:index]) for index in range(len(columns))]
        for number in range(count):
            yield {
                name: self._value(data[start + number * width : start + (number + 1) * width], kind)
                for (name, kind), start, width in zip(columns, starts, widths, strict=True)
            }

    def _width_of(self, kind: int) -> int:
        if kind & ~(_IS_NULLABLE | _IS_KEY) == _IS_STRING | _IS_VALID:
            return 2  # a stream of its own holds the bytes
        if kind & _IS_STRING:
            return self._width
        return 4 if kind & _SIZE_MASK == 4 else 2  # noqa: PLR2004 - bytes

    def _value(self, data: bytes, kind: int) -> str | int | None:
        number = int.from_bytes(data, "little")
        if kind & _IS_STRING:
            return self._strings[number] if number else None
        if not number:
            return None
        return number - (0x8000 if len(data) == 2 else 0x8000_0000)  # noqa: PLR2004 - bytes
