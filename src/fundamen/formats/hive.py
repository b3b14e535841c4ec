r"""Change registry hives as they lie on a Windows volume (regf): put a key or values in, take a key out.

What is new goes into a bin of its own at the end; of the cells that were there only those change that must: the key
above, its list, the security descriptor that both share. The sequence numbers go up together, so that the system takes
the hive as one that was closed cleanly, and leaves the logs beside it alone.

Words: a *cell* is a run of bytes with its size in front, negative while it is in use; all offsets count from the first
bin. Source: Suhanov, "Windows registry file format specification", sections "Format of primary files", "Hash leaf",
"Key node", "Key value", "Big data".
"""

import struct
from collections.abc import Mapping

import msgspec

from fundamen.formats.cursor import damaged
from fundamen.formats.registry_value import HiveValue
from fundamen.model.errors import DamagedFileError, UnreadableError

MAGIC = b"regf"

_BASE_SIZE = 4096  # bytes in front of the first bin
_BASE = struct.Struct("<4sIIQIIIIII")  # signature, two sequence numbers, time, version, type, format, root, bins' size
_CHECKSUM_AT = 508
_BIN = struct.Struct("<4sIIQQI")  # signature, offset, size, reserved, time, spare
_BIN_UNIT = 4096
_NODE = struct.Struct("<2sHQIIIIIIIIIIIIIIIHH")
_VALUE = struct.Struct("<2sHIIIHH")
_LIST = struct.Struct("<2sH")
_OFFSET = struct.Struct("<I")
_HASHED = struct.Struct("<II")
_SIZE = struct.Struct("<i")
_SECURITY_COUNT_AT, _VALUE_TYPE_AT = 12, 12
_NONE = 0xFFFF_FFFF
_LOWER = 0xFFFF
_KEY_IS_LATIN, _VALUE_IS_LATIN = 0x20, 0x01
_SEQUENCES_AT, _SEQUENCES = 4, struct.Struct("<IIQ")
_SIZE_AT = 40
_ROOT_LIST, _BIG_DATA = b"ri", b"db"
_ENTRIES = {b"lf": _HASHED, b"lh": _HASHED, b"li": _OFFSET, _ROOT_LIST: _OFFSET}  # of each kind of list
_LATEST_MINOR, _BIG_DATA_MINOR, _HASH_MINOR = 6, 4, 5  # since when large values are split, and leaves hold hashes
_MOST_IN_CELL = 16344  # bytes of a value; more are split since version 1.4
_INLINE, _MOST_INLINE = 0x8000_0000, 4
_MOST_IN_LIST = 507  # as the system itself fills them
_MOST_SUBKEYS = 500_000
_EPOCH_SECONDS = 11_644_473_600  # from 1601 to 1970
_UNITS = 10_000_000  # of a time, in a second


class _Node(msgspec.Struct, frozen=True, kw_only=True):
    """A key, 76 bytes and its name."""

    signature: bytes = b"nk"
    flags: int
    changed_at: int  # 100 ns since 1601
    access: int = 0
    parent: int
    subkey_count: int = 0
    volatile_count: int = 0
    subkeys: int = _NONE
    volatile_subkeys: int = _NONE
    value_count: int = 0
    values: int = _NONE
    security: int
    class_name: int = _NONE
    longest_subkey: int = 0  # bytes in UTF-16, in the lower half
    longest_class: int = 0
    longest_value_name: int = 0
    largest_value: int = 0
    work: int = 0
    name_size: int
    class_size: int = 0


def with_values(data: bytes, path: str, values: Mapping[str, HiveValue], seconds: int | None) -> bytes:
    r"""A hive in which a key has these values; the key and those above it are made where they are not there.

    Args:
        data: the hive.
        path: of the key, from the hive's root on, as ``Microsoft\SystemCertificates``.
        values: by name; one that is there already is replaced.
        seconds: when, since 1970, UTC; None: as it was last changed.

    Raises:
        DamagedFileError: it is no hive, or breaks the rules of its format.
        UnreadableError: it was not closed cleanly.
    """
    hive = _Hive(data, seconds)
    at = hive.root
    for name in path.split("\\"):
        at = hive.find(at, name) or hive.add_key(at, name)
    for name, value in values.items():
        hive.put_value(at, name, value)
    return hive.closed()


def find_value(data: bytes, path: str, name: str) -> HiveValue | None:
    """One value of a key; None where there is none. Raises: as ``with_values``."""
    hive = _Hive(data)
    at = _find_key(hive, path)
    return hive.value(at, name) if at else None


def without_value(data: bytes, path: str, name: str) -> bytes:
    """A hive without one value of a key; the same bytes where it has none. Raises: as ``with_values``."""
    hive = _Hive(data)
    at = _find_key(hive, path)
    return hive.closed() if at and hive.remove_value(at, name) else data


def _find_key(hive: "_Hive", path: str) -> int:
    """Where a key lies; 0 where there is none."""
    at: int = hive.root
    for name in path.split("\\"):
        at = hive.find(at, name) or 0
        if not at:
            break
    return at


def without_key(data: bytes, path: str) -> bytes:
    """A hive without a key and its values; the same bytes where it has none, or one with keys below it.

    Raises:
        DamagedFileError, UnreadableError: as for ``with_values``.
    """
    hive = _Hive(data)
    above, at = hive.root, hive.root
    for name in path.split("\\"):
        above, at = at, hive.find(at, name) or 0
        if not at:
            return data
    if at == hive.root or hive.node(at).subkey_count:
        return data
    hive.remove_key(above, at)
    return hive.closed()


class _Hive:
    """A hive that is being changed."""

    def __init__(self, data: bytes, seconds: int | None = None) -> None:
        if len(data) < _BASE_SIZE or not data.startswith(MAGIC):
            raise _broken("it does not begin like one")
        base = _BASE.unpack_from(data)
        _, self._sequence, second, written_at, major, self._minor, kind, form, self.root, self._size = base
        if (major, kind, form) != (1, 0, 1) or self._minor > _LATEST_MINOR:
            raise _broken(f"it is of version {major}.{self._minor}, which is not known here")
        if _checksum(data) != _OFFSET.unpack_from(data, _CHECKSUM_AT)[0]:
            raise _broken("its first block has not the checksum that stands in it")
        if self._sequence != second:
            raise UnreadableError(
                what="The registry hive cannot be changed",
                why="it was not closed cleanly: its last changes lie in the logs beside it",
                do="Start that Windows and shut it down whole (shutdown /s /t 0), then try again.",
            )
        if self._size % _BIN_UNIT or _BASE_SIZE + self._size > len(data):
            raise _broken(f"its bins take {self._size} bytes, and the file has {len(data)}")
        self._data = bytearray(data)
        self._new = bytearray()  # cells of the new bin
        self._now = written_at if seconds is None else (seconds + _EPOCH_SECONDS) * _UNITS

    # Reading

    def node(self, at: int) -> _Node:
        """The key at an offset."""
        node = _Node(**dict(zip(_Node.__struct_fields__, _NODE.unpack_from(self._cell(at, _NODE.size)), strict=True)))
        if node.signature != b"nk" or _NODE.size + node.name_size > len(self._cell(at, 0)):
            raise _broken(f"no key lies at {at:#x}")
        return node

    def find(self, above: int, name: str) -> int | None:
        """Where the key of a name below a key lies; None where there is none."""
        wanted = _folded(name)
        return next((at for at in self._subkeys(above) if _folded(self._name(at)) == wanted), None)

    def _name(self, at: int) -> str:
        node = self.node(at)
        raw = bytes(self._cell(at, 0)[_NODE.size : _NODE.size + node.name_size])
        return _text(raw, is_latin=bool(node.flags & _KEY_IS_LATIN))

    def _subkeys(self, above: int) -> list[int]:
        """Where the keys below a key lie, in their order."""
        return [at for leaf in self._leaves(above) for at in self._entries(leaf)]

    def _leaves(self, above: int) -> list[int]:
        """Where the lists of the keys below a key lie."""
        node = self.node(above)
        if not node.subkey_count or node.subkeys == _NONE:
            return []
        if node.subkey_count > _MOST_SUBKEYS:
            raise _broken(f"a key claims {node.subkey_count} keys below it")
        kind, _ = _LIST.unpack_from(self._cell(node.subkeys, _LIST.size))
        return self._entries(node.subkeys) if kind == _ROOT_LIST else [node.subkeys]

    def _entries(self, at: int) -> list[int]:
        """The offsets in a list."""
        kind, count = _LIST.unpack_from(self._cell(at, _LIST.size))
        if kind not in _ENTRIES:
            raise _broken(f"no list of keys lies at {at:#x}")
        record = _ENTRIES[kind]
        table = self._cell(at, _LIST.size + record.size * count)
        return [each[0] for each in record.iter_unpack(table[_LIST.size : _LIST.size + record.size * count])]

    def _values(self, at: int) -> list[int]:
        node = self.node(at)
        if not node.value_count or node.values == _NONE:
            return []
        table = self._cell(node.values, _OFFSET.size * node.value_count)
        return [each[0] for each in _OFFSET.iter_unpack(table[: _OFFSET.size * node.value_count])]

    def _value(self, at: int) -> tuple[str, int, int]:
        """A value's name, the size of its data and where that lies."""
        cell = self._cell(at, _VALUE.size)
        mark, name_size, size, data_at, _, flags, _ = _VALUE.unpack_from(cell)
        if mark != b"vk" or _VALUE.size + name_size > len(cell):
            raise _broken(f"no value lies at {at:#x}")
        raw = bytes(cell[_VALUE.size : _VALUE.size + name_size])
        return _text(raw, is_latin=bool(flags & _VALUE_IS_LATIN)), size, data_at

    def _cell(self, at: int, least: int) -> memoryview:
        """What a cell in use holds, ``least`` bytes at the least."""
        store, begin = self._store_of(at)
        end = _BASE_SIZE + self._size if store is self._data else len(store)
        if begin < 0 or at % 8 or begin + _SIZE.size > end:
            raise _broken(f"an offset leads to {at:#x}, where no cell is")
        size: int = -_SIZE.unpack_from(store, begin)[0]
        if size < _SIZE.size + least or begin + size > end:
            raise _broken(f"the cell at {at:#x} has {size} bytes")
        return memoryview(bytes(store[begin + _SIZE.size : begin + size]))

    def _store_of(self, at: int) -> tuple[bytearray, int]:
        """(what holds an offset, the place in it)."""
        return (self._data, _BASE_SIZE + at) if at < self._size else (self._new, at - self._size - _BIN.size)

    # Changing

    def add_key(self, above: int, name: str) -> int:
        """Put a key below another, whose security descriptor it shares, and give where it lies."""
        parent = self.node(above)
        encoded, is_latin = _encoded(name)
        if parent.security != _NONE:
            self._count_security(parent.security, 1)
        node = _Node(
            flags=_KEY_IS_LATIN if is_latin else 0,
            changed_at=self._now,
            parent=above,
            security=parent.security,
            name_size=len(encoded),
        )
        at = self._add_cell(_packed(node) + encoded)
        keys, folded = self._subkeys(above), _folded(name)
        place = next((n for n, key in enumerate(keys) if _folded(self._name(key)) > folded), len(keys))
        self._list_subkeys(above, [*keys[:place], at, *keys[place:]], longest=len(name.encode("utf-16-le")))
        return at

    def remove_key(self, above: int, at: int) -> None:
        """Take a key with its values from below another."""
        node = self.node(at)
        for value in self._values(at):
            self._free_data(value)
            self._free(value)
        self._free(node.values)
        if node.security != _NONE:
            self._count_security(node.security, -1)
        self._list_subkeys(above, [key for key in self._subkeys(above) if key != at])
        self._free(at)

    def _count_security(self, at: int, more: int) -> None:
        """Say that more or fewer keys share a security descriptor."""
        (count,) = _OFFSET.unpack_from(self._cell(at, _SECURITY_COUNT_AT + _OFFSET.size), _SECURITY_COUNT_AT)
        self._write(at, _SECURITY_COUNT_AT, _OFFSET.pack(max(1, count + more)))

    def _list_subkeys(self, above: int, keys: list[int], longest: int = 0) -> None:
        """Write the list of the keys below a key anew."""
        node = self.node(above)
        for leaf in {*self._leaves(above), node.subkeys}:
            self._free(leaf)
        kind = b"lh" if self._minor >= _HASH_MINOR else b"lf"
        leaves = [
            self._add_cell(
                _LIST.pack(kind, len(part)) + b"".join(_HASHED.pack(key, _hint(self._name(key), kind)) for key in part)
            )
            for part in (keys[begin : begin + _MOST_IN_LIST] for begin in range(0, len(keys), _MOST_IN_LIST))
        ]
        if len(leaves) > 1:
            lists = b"".join(map(_OFFSET.pack, leaves))
            leaves = [self._add_cell(_LIST.pack(_ROOT_LIST, len(leaves)) + lists)]
        longest = max(longest, node.longest_subkey & _LOWER)
        self._rewrite(
            above,
            subkeys=leaves[0] if leaves else _NONE,
            subkey_count=len(keys),
            longest_subkey=node.longest_subkey & ~_LOWER | longest,
        )

    def put_value(self, key: int, name: str, value: HiveValue) -> None:
        """Give a key a value, in the place of one of the same name."""
        data_at, size = self._add_data(value.data)
        encoded, is_latin = _encoded(name)
        flags = _VALUE_IS_LATIN if is_latin and name else 0
        record = _VALUE.pack(b"vk", len(encoded), size, data_at, value.type, flags, 0) + encoded
        held = self._values(key)
        same = next((at for at in held if _folded(self._value(at)[0]) == _folded(name)), None)
        node = self.node(key)
        if same is not None:
            self._free_data(same)
            self._write(same, 0, record[: _VALUE.size - 4])  # its own name and flags stay
        else:
            held.append(self._add_cell(record))
            self._free(node.values)
            node = msgspec.structs.replace(node, values=self._add_cell(b"".join(map(_OFFSET.pack, held))))
        self._rewrite(
            key,
            values=node.values,
            value_count=len(held),
            longest_value_name=max(node.longest_value_name, len(name.encode("utf-16-le"))),
            largest_value=max(node.largest_value, len(value.data)),
        )

    def value(self, key: int, name: str) -> HiveValue | None:
        """A value of a key."""
        for at in self._values(key):
            if _folded(self._value(at)[0]) == _folded(name):
                (type_,) = _OFFSET.unpack_from(self._cell(at, _VALUE.size), _VALUE_TYPE_AT)
                return HiveValue(type_, self._data_of(at))
        return None

    def remove_value(self, key: int, name: str) -> bool:
        """Take a value from a key; False where it has none of this name."""
        held = self._values(key)
        left = [at for at in held if _folded(self._value(at)[0]) != _folded(name)]
        if len(left) == len(held):
            return False
        for at in set(held) - set(left):
            self._free_data(at)
            self._free(at)
        self._free(self.node(key).values)
        values = self._add_cell(b"".join(map(_OFFSET.pack, left))) if left else _NONE
        self._rewrite(key, values=values, value_count=len(left))
        return True

    def _data_of(self, value: int) -> bytes:
        _, size, at = self._value(value)
        if size & _INLINE:
            return at.to_bytes(_MOST_INLINE, "little")[: size & ~_INLINE]
        if not size:
            return b""
        cell = self._cell(at, 0)
        if size <= _MOST_IN_CELL or self._minor < _BIG_DATA_MINOR or bytes(cell[:2]) != _BIG_DATA:
            return bytes(self._cell(at, size)[:size])
        count, segments = _LIST.unpack_from(cell)[1], _OFFSET.unpack_from(cell, _LIST.size)[0]
        parts = _OFFSET.iter_unpack(self._cell(segments, _OFFSET.size * count)[: _OFFSET.size * count])
        return b"".join(bytes(self._cell(part, 0)[:_MOST_IN_CELL]) for (part,) in parts)[:size]

    def _add_data(self, data: bytes) -> tuple[int, int]:
        """(where a value's data lies, or the data itself; its size as the value has it)."""
        if len(data) <= _MOST_INLINE:
            return int.from_bytes(data, "little"), len(data) | _INLINE
        if len(data) <= _MOST_IN_CELL or self._minor < _BIG_DATA_MINOR:
            return self._add_cell(data), len(data)
        parts = [self._add_cell(data[at : at + _MOST_IN_CELL]) for at in range(0, len(data), _MOST_IN_CELL)]
        segments = self._add_cell(b"".join(map(_OFFSET.pack, parts)))
        return self._add_cell(_LIST.pack(_BIG_DATA, len(parts)) + _OFFSET.pack(segments)), len(data)

    def _free_data(self, value: int) -> None:
        _, size, at = self._value(value)
        if size & _INLINE or not size:
            return
        cell = self._cell(at, 0)
        if size > _MOST_IN_CELL and self._minor >= _BIG_DATA_MINOR and bytes(cell[:2]) == _BIG_DATA:
            count, segments = _LIST.unpack_from(cell)[1], _OFFSET.unpack_from(cell, _LIST.size)[0]
            for (part,) in _OFFSET.iter_unpack(self._cell(segments, _OFFSET.size * count)[: _OFFSET.size * count]):
                self._free(part)
            self._free(segments)
        self._free(at)

    def _add_cell(self, content: bytes) -> int:
        """Put a cell into the new bin, and give its offset."""
        at: int = self._size + _BIN.size + len(self._new)
        size = -(-(_SIZE.size + len(content)) // 8) * 8
        self._new += _SIZE.pack(-size) + content.ljust(size - _SIZE.size, b"\0")
        return at

    def _free(self, at: int) -> None:
        """Give a cell up; nothing where the offset is none."""
        if at != _NONE:
            size = len(self._cell(at, 0)) + _SIZE.size
            store, begin = self._store_of(at)
            _SIZE.pack_into(store, begin, size)

    def _rewrite(self, key: int, **fields: int) -> None:
        self._write(key, 0, _packed(msgspec.structs.replace(self.node(key), changed_at=self._now, **fields)))

    def _write(self, at: int, offset: int, content: bytes) -> None:
        """Write into a cell in use."""
        self._cell(at, offset + len(content))
        store, begin = self._store_of(at)
        begin += _SIZE.size + offset
        store[begin : begin + len(content)] = content

    def closed(self) -> bytes:
        """The whole hive, as the system leaves one behind that it has closed."""
        size = -(-(_BIN.size + len(self._new)) // _BIN_UNIT) * _BIN_UNIT
        free = size - _BIN.size - len(self._new)
        if free:
            self._new += _SIZE.pack(free) + bytes(free - _SIZE.size)
        begin = _BASE_SIZE + self._size
        self._data[begin : begin + size] = _BIN.pack(b"hbin", self._size, size, 0, self._now, 0) + self._new
        sequence = (self._sequence + 1) & _NONE
        _SEQUENCES.pack_into(self._data, _SEQUENCES_AT, sequence, sequence, self._now)
        _OFFSET.pack_into(self._data, _SIZE_AT, self._size + size)
        _OFFSET.pack_into(self._data, _CHECKSUM_AT, _checksum(self._data))
        return bytes(self._data)


def _packed(node: _Node) -> bytes:
    return _NODE.pack(*msgspec.structs.astuple(node))


def _encoded(name: str) -> tuple[bytes, bool]:
    """(a name as it is stored, whether it is stored with one byte a character)."""
    try:
        return name.encode("ascii"), True  # the system would take all of Latin-1; not every reader does
    except UnicodeEncodeError:
        return name.encode("utf-16-le"), False


def _text(raw: bytes, *, is_latin: bool) -> str:
    return raw.decode("latin-1" if is_latin else "utf-16-le", "replace")


def _folded(name: str) -> str:
    """A name as the system compares it: each character by itself in upper case."""
    return "".join(upper if len(upper := character.upper()) == 1 else character for character in name)


def _hint(name: str, kind: bytes) -> int:
    """What a leaf holds beside a key's offset: a hash of its name, or the beginning of it."""
    if kind == b"lf":
        return int.from_bytes(name.encode("latin-1", "replace")[:4].ljust(4, b"\0"), "little")
    hashed = 0
    for character in _folded(name):
        hashed = (hashed * 37 + ord(character)) & _NONE
    return hashed


def _checksum(data: bytes | bytearray) -> int:
    """All words of the first block before the checksum, exclusive-ored; two results are reserved."""
    folded = 0
    for (word,) in _OFFSET.iter_unpack(data[:_CHECKSUM_AT]):
        folded ^= word
    return {0: 1, _NONE: _NONE - 1}.get(folded, folded)


def _broken(why: str) -> DamagedFileError:
    return damaged("A registry hive", why)
