"""Read one text of a property set, such as an install package's summary. Source: MS-OLEPS, sections 2.20 to 2.23."""

import struct

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.cursor import Cursor
from fundamen.model.errors import DamagedFileError

_HEADER = struct.Struct("<HHI16sI")  # PropertySetStream: byte order, version, system, class, how many sets
_SET = struct.Struct("<16sI")  # the form of a set, and where it begins
_COUNTED = struct.Struct("<II")  # PropertySet: its size, how many properties
_PROPERTY = struct.Struct("<II")  # an identifier, and where its value begins, from the beginning of the set
_VALUE = struct.Struct("<II")  # a type, and the size of a text with its terminator
_BYTE_ORDER = 0xFFFE
_TEXT = 30  # VT_LPSTR
_MOST_PROPERTIES = 1_000
_MOST_TEXT = 1 << 16  # bytes


def find_text(data: bytes, number: int) -> str:
    """A text of the first set of a stream, by its identifier; empty where there is none, or the stream is damaged."""
    try:
        return _find_property(Cursor(MemoryBytes(data, "properties")), data, number)
    except DamagedFileError:
        return ""


def _find_property(cursor: Cursor, data: bytes, number: int) -> str:
    order, *_, count = cursor.unpack(_HEADER, "header of properties")
    if order != _BYTE_ORDER or not count:
        return ""
    _, begin = cursor.unpack(_SET, "place of a set of properties")
    inside = Cursor(MemoryBytes(data, "properties"), begin)
    _, properties = inside.unpack(_COUNTED, "set of properties")
    for _ in range(min(properties, _MOST_PROPERTIES)):
        identifier, offset = inside.unpack(_PROPERTY, "place of a property")
        if identifier == number:
            value = Cursor(MemoryBytes(data, "properties"), begin + offset)
            kind, size = value.unpack(_VALUE, "head of a property")
            if kind != _TEXT or size > _MOST_TEXT:
                return ""
            return value.take(size, "text of a property").partition(b"\0")[0].decode("cp1252", "replace")
    return ""
