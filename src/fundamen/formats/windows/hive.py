r"""Change registry hives as they lie on a Windows volume (regf): put a key or values in, take a key out.

What is new goes into a bin of its own at the end; of the cells that were there only those change that must: the key
above, its list, the security descriptor that both share. The sequence numbers go up together, so that the system takes
the hive as one that was closed cleanly, and leaves the logs beside it alone.

Words and source: as in ``hive_cells.py``.
"""

import struct
from collections.abc import Mapping

import msgspec

from fundamen.formats.windows.hive_cells import (
    BASE_SIZE,
    BIG_DATA,
    BIG_DATA_MINOR,
    BIN,
    BIN_UNIT,
    CHECKSUM_AT,
    HASHED,
    INLINE,
    KEY_IS_LATIN,
    LIST,
    MOST_IN_CELL,
    MOST_INLINE,
    NODE,
    NONE,
    OFFSET,
    ROOT_LIST,
    SIZE,
    VALUE,
    VALUE_IS_LATIN,
    HiveCells,
    KeyNode,
    checksum,
    fold_name,
)
from fundamen.formats.windows.registry_value import HiveValue

_SECURITY_COUNT_AT = 12
_SEQUENCES_AT, _SEQUENCES = 4, struct.Struct("<IIQ")
_SIZE_AT = 40
_LOWER = 0xFFFF
_HASH_MINOR = 5  # since when leaves hold hashes
_MOST_IN_LIST = 507  # as the system itself fills them
_EPOCH_SECONDS = 11_644_473_600  # from 1601 to 1970
_UNITS = 10_000_000  # of a time, in a second


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
    hive = _Changing(data, seconds)
    at = hive.root
    for name in path.split("\\"):
        at = hive.find(at, name) or hive.add_key(at, name)
    for name, value in values.items():
        hive.put_value(at, name, value)
    return hive.close()


def without_value(data: bytes, path: str, name: str) -> bytes:
    """A hive without one value of a key; the same bytes where it has none. Raises: as ``with_values``."""
    hive = _Changing(data)
    at = hive.find_path(path)
    return hive.close() if at and hive.remove_value(at, name) else data


def without_key(data: bytes, path: str) -> bytes:
    """A hive without a key and its values; the same bytes where it has none, or one with keys below it.

    Raises:
        DamagedFileError, UnreadableError: as for ``with_values``.
    """
    hive = _Changing(data)
    above, at = hive.root, hive.root
    for name in path.split("\\"):
        above, at = at, hive.find(at, name) or 0
        if not at:
            return data
    if at == hive.root or hive.node(at).subkey_count:
        return data
    hive.remove_key(above, at)
    return hive.close()


class _Changing(HiveCells):
    """A hive that is being changed."""

    def __init__(self, data: bytes, seconds: int | None = None) -> None:
        super().__init__(data)
        self._now = self._written_at if seconds is None else (seconds + _EPOCH_SECONDS) * _UNITS

    def add_key(self, above: int, name: str) -> int:
        """Put a key below another, whose security descriptor it shares, and give where it lies."""
        parent = self.node(above)
        encoded, is_latin = _encode_name(name)
        if parent.security != NONE:
            self._count_security(parent.security, 1)
        node = KeyNode(
            flags=KEY_IS_LATIN if is_latin else 0,
            changed_at=self._now,
            parent=above,
            security=parent.security,
            name_size=len(encoded),
        )
        at = self._add_cell(_pack_node(node) + encoded)
        keys, own = self._subkeys(above), fold_name(name)
        place = next((n for n, key in enumerate(keys) if fold_name(self._name(key)) > own), len(keys))
        self._list_subkeys(above, [*keys[:place], at, *keys[place:]], longest=len(name.encode("utf-16-le")))
        return at

    def remove_key(self, above: int, at: int) -> None:
        """Take a key with its values from below another."""
        node = self.node(at)
        for value in self._values(at):
            self._free_data(value)
            self._free(value)
        self._free(node.values)
        if node.security != NONE:
            self._count_security(node.security, -1)
        self._list_subkeys(above, [key for key in self._subkeys(above) if key != at])
        self._free(at)

    def _count_security(self, at: int, more: int) -> None:
        """Say that more or fewer keys share a security descriptor."""
        (count,) = OFFSET.unpack_from(self._cell(at, _SECURITY_COUNT_AT + OFFSET.size), _SECURITY_COUNT_AT)
        self._write(at, _SECURITY_COUNT_AT, OFFSET.pack(max(1, count + more)))

    def _list_subkeys(self, above: int, keys: list[int], longest: int = 0) -> None:
        """Write the list of the keys below a key again."""
        node = self.node(above)
        for leaf in {*self._leaves(above), node.subkeys}:
            self._free(leaf)
        kind = b"lh" if self._minor >= _HASH_MINOR else b"lf"
        leaves = [
            self._add_cell(
                LIST.pack(kind, len(part)) + b"".join(HASHED.pack(key, _hint(self._name(key), kind)) for key in part)
            )
            for part in (keys[begin : begin + _MOST_IN_LIST] for begin in range(0, len(keys), _MOST_IN_LIST))
        ]
        if len(leaves) > 1:
            lists = b"".join(map(OFFSET.pack, leaves))
            leaves = [self._add_cell(LIST.pack(ROOT_LIST, len(leaves)) + lists)]
        longest = max(longest, node.longest_subkey & _LOWER)
        self._rewrite(
            above,
            subkeys=leaves[0] if leaves else NONE,
            subkey_count=len(keys),
            longest_subkey=node.longest_subkey & ~_LOWER | longest,
        )

    def put_value(self, key: int, name: str, value: HiveValue) -> None:
        """Give a key a value, in the place of one of the same name."""
        data_at, size = self._add_data(value.data)
        encoded, is_latin = _encode_name(name)
        flags = VALUE_IS_LATIN if is_latin and name else 0
        record = VALUE.pack(b"vk", len(encoded), size, data_at, value.type, flags, 0) + encoded
        held = self._values(key)
        same = next((at for at in held if fold_name(self._value(at)[0]) == fold_name(name)), None)
        node = self.node(key)
        if same is not None:
            self._free_data(same)
            self._write(same, 0, record[: VALUE.size - 4])  # its own name and flags stay
        else:
            held.append(self._add_cell(record))
            self._free(node.values)
            node = msgspec.structs.replace(node, values=self._add_cell(b"".join(map(OFFSET.pack, held))))
        self._rewrite(
            key,
            values=node.values,
            value_count=len(held),
            longest_value_name=max(node.longest_value_name, len(name.encode("utf-16-le"))),
            largest_value=max(node.largest_value, len(value.data)),
        )

    def remove_value(self, key: int, name: str) -> bool:
        """Take a value from a key; False where it has none of this name."""
        held = self._values(key)
        left = [at for at in held if fold_name(self._value(at)[0]) != fold_name(name)]
        if len(left) == len(held):
            return False
        for at in set(held) - set(left):
            self._free_data(at)
            self._free(at)
        self._free(self.node(key).values)
        values = self._add_cell(b"".join(map(OFFSET.pack, left))) if left else NONE
        self._rewrite(key, values=values, value_count=len(left))
        return True

    def _add_data(self, data: bytes) -> tuple[int, int]:
        """(where a value's data lies, or the data itself; its size as the value has it)."""
        if len(data) <= MOST_INLINE:
            return int.from_bytes(data, "little"), len(data) | INLINE
        if len(data) <= MOST_IN_CELL or self._minor < BIG_DATA_MINOR:
            return self._add_cell(data), len(data)
        parts = [self._add_cell(data[at : at + MOST_IN_CELL]) for at in range(0, len(data), MOST_IN_CELL)]
        segments = self._add_cell(b"".join(map(OFFSET.pack, parts)))
        return self._add_cell(LIST.pack(BIG_DATA, len(parts)) + OFFSET.pack(segments)), len(data)

    def _free_data(self, value: int) -> None:
        _, size, at = self._value(value)
        if size & INLINE or not size:
            return
        segments, parts = self._segments(at, size)
        for offset in (*parts, segments, at):
            self._free(offset)

    def _add_cell(self, content: bytes) -> int:
        """Put a cell into the new bin, and give its offset."""
        at: int = self._size + BIN.size + len(self._new)
        size = -(-(SIZE.size + len(content)) // 8) * 8
        self._new += SIZE.pack(-size) + content.ljust(size - SIZE.size, b"\0")
        return at

    def _free(self, at: int) -> None:
        """Give a cell up; nothing where the offset is none."""
        if at != NONE:
            size = len(self._cell(at, 0)) + SIZE.size
            store, begin = self._store_of(at)
            SIZE.pack_into(store, begin, size)

    def _rewrite(self, key: int, **fields: int) -> None:
        self._write(key, 0, _pack_node(msgspec.structs.replace(self.node(key), changed_at=self._now, **fields)))

    def _write(self, at: int, offset: int, content: bytes) -> None:
        """Write into a cell in use."""
        self._cell(at, offset + len(content))
        store, begin = self._store_of(at)
        begin += SIZE.size + offset
        store[begin : begin + len(content)] = content

    def close(self) -> bytes:
        """The whole hive, as the system leaves one behind that it has closed."""
        size = -(-(BIN.size + len(self._new)) // BIN_UNIT) * BIN_UNIT
        free = size - BIN.size - len(self._new)
        if free:
            self._new += SIZE.pack(free) + bytes(free - SIZE.size)
        begin = BASE_SIZE + self._size
        self._data[begin : begin + size] = BIN.pack(b"hbin", self._size, size, 0, self._now, 0) + self._new
        sequence = (self._sequence + 1) & NONE
        _SEQUENCES.pack_into(self._data, _SEQUENCES_AT, sequence, sequence, self._now)
        OFFSET.pack_into(self._data, _SIZE_AT, self._size + size)
        OFFSET.pack_into(self._data, CHECKSUM_AT, checksum(self._data))
        return bytes(self._data)


def _pack_node(node: KeyNode) -> bytes:
    return NODE.pack(*msgspec.structs.astuple(node))


def _encode_name(name: str) -> tuple[bytes, bool]:
    """(a name as it is stored, whether it is stored with one byte a character)."""
    try:
        return name.encode("ascii"), True  # the system would take all of Latin-1; not every reader does
    except UnicodeEncodeError:
        return name.encode("utf-16-le"), False


def _hint(name: str, kind: bytes) -> int:
    """The hint in a leaf beside a key's offset: a hash of its name, or the beginning of it."""
    if kind == b"lf":
        return int.from_bytes(name.encode("latin-1", "replace")[:4].ljust(4, b"\0"), "little")
    hashed = 0
    for character in fold_name(name):
        hashed = (hashed * 37 + ord(character)) & NONE
    return hashed
