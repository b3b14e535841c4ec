r"""Read registry hives as they lie on a Windows volume (regf): keys and their values, by the cells that hold them.

Words: a *cell* is a run of bytes with its size in front, negative while it is in use; all offsets count from the first
bin. Source: Suhanov, "Windows registry file format specification", sections "Format of primary files", "Hash leaf",
"Key node", "Key value", "Big data".
"""

import struct

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.formats.windows.registry_value import HiveValue
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError, UnreadableError

MAGIC = b"regf"

BASE_SIZE = 4096  # bytes in front of the first bin
_BASE = struct.Struct("<4sIIQIIIIII")  # signature, two sequence numbers, time, version, type, format, root, bins' size
CHECKSUM_AT = 508
BIN = struct.Struct("<4sIIQQI")  # signature, offset, size, reserved, time, spare
BIN_UNIT = 4096
NODE = struct.Struct("<2sHQIIIIIIIIIIIIIIIHH")
VALUE = struct.Struct("<2sHIIIHH")
LIST = struct.Struct("<2sH")
OFFSET = struct.Struct("<I")
HASHED = struct.Struct("<II")
SIZE = struct.Struct("<i")
_VALUE_TYPE_AT = 12
NONE = 0xFFFF_FFFF
KEY_IS_LATIN, VALUE_IS_LATIN = 0x20, 0x01
ROOT_LIST, BIG_DATA = b"ri", b"db"
_ENTRIES = {b"lf": HASHED, b"lh": HASHED, b"li": OFFSET, ROOT_LIST: OFFSET}  # of each kind of list
_LATEST_MINOR, BIG_DATA_MINOR = 6, 4  # since when large values are split
MOST_IN_CELL = 16344  # bytes of a value; more are split since version 1.4
INLINE, MOST_INLINE = 0x8000_0000, 4
_MOST_SUBKEYS = 500_000


class KeyNode(msgspec.Struct, frozen=True, kw_only=True):
    """A key, 76 bytes and its name."""

    signature: bytes = b"nk"
    flags: int
    changed_at: int  # 100 ns since 1601
    access: int = 0
    parent: int
    subkey_count: int = 0
    volatile_count: int = 0
    subkeys: int = NONE
    volatile_subkeys: int = NONE
    value_count: int = 0
    values: int = NONE
    security: int
    class_name: int = NONE
    longest_subkey: int = 0  # bytes in UTF-16, in the lower half
    longest_class: int = 0
    longest_value_name: int = 0
    largest_value: int = 0
    work: int = 0
    name_size: int
    class_size: int = 0


def find_value(data: bytes, path: str, name: str) -> HiveValue | None:
    r"""One value of a key; None where there is none.

    Args:
        data: the hive.
        path: of the key, from the hive's root on, as ``Microsoft\SystemCertificates``.
        name: of the value.

    Raises:
        DamagedFileError: it is no hive, or breaks the rules of its format.
        UnreadableError: it was not closed cleanly.
    """
    hive = HiveCells(data)
    at = hive.find_path(path)
    return hive.value(at, name) if at else None


class HiveCells:
    """A hive by its cells; what is new in one that is being changed lies in a bin behind the others."""

    def __init__(self, data: bytes) -> None:
        """Take a hive's bytes. Raises: DamagedFileError, UnreadableError: as ``find_value``."""
        if len(data) < BASE_SIZE or not data.startswith(MAGIC):
            raise _damaged_hive(say("formats.it-does-not-begin-like-one"))
        base = _BASE.unpack_from(data)
        _, self._sequence, second, self._written_at, major, self._minor, kind, form, self.root, self._size = base
        if (major, kind, form) != (1, 0, 1) or self._minor > _LATEST_MINOR:
            raise _damaged_hive(say("formats.it-is-of-version-which-is", major=major, minor=self._minor))
        if checksum(data) != OFFSET.unpack_from(data, CHECKSUM_AT)[0]:
            raise _damaged_hive(say("formats.its-first-block-does-not-have"))
        if self._sequence != second:
            raise UnreadableError(
                what=say("formats.the-registry-hive-cannot-be-changed"),
                why=say("formats.it-was-not-closed-cleanly-its"),
                do=say("formats.start-that-windows-and-shut-it"),
            )
        if self._size % BIN_UNIT or BASE_SIZE + self._size > len(data):
            raise _damaged_hive(say("formats.its-bins-take-bytes-and-the", size=self._size, count=len(data)))
        self._data = bytearray(data)
        self._new = bytearray()  # cells of the new bin

    def node(self, at: int) -> KeyNode:
        """The key at an offset."""
        node = KeyNode(**dict(zip(KeyNode.__struct_fields__, NODE.unpack_from(self._cell(at, NODE.size)), strict=True)))
        if node.signature != b"nk" or NODE.size + node.name_size > len(self._cell(at, 0)):
            raise _damaged_hive(say("formats.no-key-lies-at", at=at))
        return node

    def find(self, above: int, name: str) -> int | None:
        """Where the key of a name below a key lies; None where there is none."""
        wanted = fold_name(name)
        return next((at for at in self._subkeys(above) if fold_name(self._name(at)) == wanted), None)

    def _name(self, at: int) -> str:
        node = self.node(at)
        raw = bytes(self._cell(at, 0)[NODE.size : NODE.size + node.name_size])
        return _text(raw, is_latin=bool(node.flags & KEY_IS_LATIN))

    def _subkeys(self, above: int) -> list[int]:
        """Where the keys below a key lie, in their order."""
        return [at for leaf in self._leaves(above) for at in self._entries(leaf)]

    def _leaves(self, above: int) -> list[int]:
        """Where the lists of the keys below a key lie."""
        node = self.node(above)
        if not node.subkey_count or node.subkeys == NONE:
            return []
        if node.subkey_count > _MOST_SUBKEYS:
            raise _damaged_hive(say("formats.a-key-claims-keys-below-it", subkey_count=node.subkey_count))
        kind, _ = LIST.unpack_from(self._cell(node.subkeys, LIST.size))
        return self._entries(node.subkeys) if kind == ROOT_LIST else [node.subkeys]

    def _entries(self, at: int) -> list[int]:
        """The offsets in a list."""
        kind, count = LIST.unpack_from(self._cell(at, LIST.size))
        if kind not in _ENTRIES:
            raise _damaged_hive(say("formats.no-list-of-keys-lies-at", at=at))
        record = _ENTRIES[kind]
        table = self._cell(at, LIST.size + record.size * count)
        return [each[0] for each in record.iter_unpack(table[LIST.size : LIST.size + record.size * count])]

    def _values(self, at: int) -> list[int]:
        node = self.node(at)
        if not node.value_count or node.values == NONE:
            return []
        table = self._cell(node.values, OFFSET.size * node.value_count)
        return [each[0] for each in OFFSET.iter_unpack(table[: OFFSET.size * node.value_count])]

    def _value(self, at: int) -> tuple[str, int, int]:
        """A value's name, the size of its data and where that lies."""
        cell = self._cell(at, VALUE.size)
        mark, name_size, size, data_at, _, flags, _ = VALUE.unpack_from(cell)
        if mark != b"vk" or VALUE.size + name_size > len(cell):
            raise _damaged_hive(say("formats.no-value-lies-at", at=at))
        raw = bytes(cell[VALUE.size : VALUE.size + name_size])
        return _text(raw, is_latin=bool(flags & VALUE_IS_LATIN)), size, data_at

    def _cell(self, at: int, least: int) -> memoryview:
        """The content of a cell in use, at least ``least`` bytes."""
        store, begin = self._store_of(at)
        end = BASE_SIZE + self._size if store is self._data else len(store)
        if begin < 0 or at % 8 or begin + SIZE.size > end:
            raise _damaged_hive(say("formats.an-offset-leads-to-where-no", at=at))
        size: int = -SIZE.unpack_from(store, begin)[0]
        if size < SIZE.size + least or begin + size > end:
            raise _damaged_hive(say("formats.the-cell-at-has-bytes", at=at, size=size))
        return memoryview(bytes(store[begin + SIZE.size : begin + size]))

    def _store_of(self, at: int) -> tuple[bytearray, int]:
        """(what holds an offset, the place in it)."""
        return (self._data, BASE_SIZE + at) if at < self._size else (self._new, at - self._size - BIN.size)

    def value(self, key: int, name: str) -> HiveValue | None:
        """A value of a key."""
        for at in self._values(key):
            if fold_name(self._value(at)[0]) == fold_name(name):
                (type_,) = OFFSET.unpack_from(self._cell(at, VALUE.size), _VALUE_TYPE_AT)
                return HiveValue(type_, self._data_of(at))
        return None

    def _data_of(self, value: int) -> bytes:
        _, size, at = self._value(value)
        if size & INLINE:
            return at.to_bytes(MOST_INLINE, "little")[: size & ~INLINE]
        if not size:
            return b""
        _, parts = self._segments(at, size)
        if not parts:
            return bytes(self._cell(at, size)[:size])
        return b"".join(bytes(self._cell(part, 0)[:MOST_IN_CELL]) for part in parts)[:size]

    def _segments(self, at: int, size: int) -> tuple[int, list[int]]:
        """(where the list of a large value's parts lies, the parts); a value in one piece has none."""
        cell = self._cell(at, 0)
        if size <= MOST_IN_CELL or self._minor < BIG_DATA_MINOR or bytes(cell[:2]) != BIG_DATA:
            return NONE, []
        count, segments = LIST.unpack_from(cell)[1], OFFSET.unpack_from(cell, LIST.size)[0]
        table = self._cell(segments, OFFSET.size * count)[: OFFSET.size * count]
        return segments, [part for (part,) in OFFSET.iter_unpack(table)]

    def find_path(self, path: str) -> int:
        """Where a key lies by its path from the root on; 0 where there is none."""
        at: int = self.root
        for name in path.split("\\"):
            at = self.find(at, name) or 0
            if not at:
                break
        return at


def _text(raw: bytes, *, is_latin: bool) -> str:
    return raw.decode("latin-1" if is_latin else "utf-16-le", "replace")


def fold_name(name: str) -> str:
    """A name as the system compares it: each character by itself in upper case."""
    return "".join(upper if len(upper := character.upper()) == 1 else character for character in name)


def checksum(data: bytes | bytearray) -> int:
    """All words of the first block before the checksum, exclusive-ored; two results are reserved."""
    combined = 0
    for (word,) in OFFSET.iter_unpack(data[:CHECKSUM_AT]):
        combined ^= word
    return {0: 1, NONE: NONE - 1}.get(combined, combined)


def _damaged_hive(why: str) -> DamagedFileError:
    return damage_error(say("formats.a-registry-hive"), why)
