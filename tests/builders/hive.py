"""Build minimal registry hives (regf, version 1.3): keys and values in one bin; an independent reader proves them."""

import struct
from collections.abc import Mapping

Key = Mapping[str, "Key | str | bytes | int | tuple[str, ...]"]

_NONE = 0xFFFFFFFF
_ROOT_SIZE = 80  # bytes
_SECURITY = struct.pack("<BBHIIII", 1, 0, 0x8000, 0, 0, 0, 0)  # a descriptor that says nothing; all keys share it
_TYPES = {str: 1, bytes: 3, int: 4, tuple: 7}


def a_hive(root: Key) -> bytes:
    """A hive: a mapping below a name is a key, anything else a value."""
    cells = bytearray()

    def cell(data: bytes) -> int:
        size = -(-(len(data) + 4) // 8) * 8
        at = 32 + len(cells)
        cells.extend(struct.pack("<i", -size) + data + bytes(size - 4 - len(data)))
        return at

    def value(name: str, content: str | bytes | int | tuple[str, ...]) -> int:
        kind = _TYPES[type(content)]
        if isinstance(content, int):
            size, at = 4 | 0x8000_0000, content
        elif isinstance(content, bytes):
            size, at = len(content), cell(content)
        else:
            text = content if isinstance(content, str) else "\0".join(content) + "\0"
            data = (text + "\0").encode("utf-16-le")
            size, at = len(data), cell(data)
        return cell(b"vk" + struct.pack("<HIIIHH", len(name), size, at, kind, 1, 0) + name.encode())

    def record(name: str, content: Key, flags: int = 0x20) -> tuple[bytes, list[int]]:
        """A key's record, and where the keys below it lie."""
        values = [value(n, v) for n, v in content.items() if not isinstance(v, Mapping)]
        subkeys = [(key(n, v), n) for n, v in content.items() if isinstance(v, Mapping)]
        value_list = cell(struct.pack(f"<{len(values)}I", *values)) if values else _NONE
        entries = b"".join(struct.pack("<I", at) + n.encode()[:4].ljust(4, b"\0") for at, n in subkeys)
        subkey_list = cell(b"lf" + struct.pack("<H", len(subkeys)) + entries) if subkeys else _NONE
        counts = struct.pack("<IIIII", 0, len(subkeys), 0, subkey_list, _NONE)
        rest = struct.pack("<IIII", len(values), value_list, security_at, _NONE) + bytes(20)
        keys.append(name)
        fields = b"nk" + struct.pack("<HQI", flags, 0, 0) + counts + rest + struct.pack("<HH", len(name), 0)
        return fields + name.encode(), [at for at, _ in subkeys]

    def key(name: str, content: Key) -> int:
        data, below = record(name, content)
        return _linked(cells, cell(data), below)

    keys: list[str] = []
    root_at = cell(bytes(_ROOT_SIZE))  # the first cell, where readers expect it
    security_at = cell(bytes(len(_SECURITY) + 20))
    root_record, below = record("ROOT", root, flags=0x2C)
    cells[root_at - 28 : root_at - 28 + len(root_record)] = root_record
    _linked(cells, root_at, below)
    security = b"sk" + struct.pack("<HIIII", 0, security_at, security_at, len(keys), len(_SECURITY)) + _SECURITY
    cells[security_at - 28 : security_at - 28 + len(security)] = security
    size = -(-(32 + len(cells)) // 4096) * 4096
    free = size - 32 - len(cells)
    if free:
        cells.extend(struct.pack("<i", free) + bytes(free - 4))
    bin_header = b"hbin" + struct.pack("<IIQQI", 0, size, 0, 0, 0)
    base = b"regf" + struct.pack("<IIQIIIIIII", 1, 1, 0, 1, 3, 0, 1, root_at, size, 1)
    base = base.ljust(508, b"\0")
    checksum = 0
    for (word,) in struct.iter_unpack("<I", base):
        checksum ^= word
    return (base + struct.pack("<I", checksum)).ljust(4096, b"\0") + bin_header + bytes(cells)


def _linked(cells: bytearray, at: int, below: list[int]) -> int:
    """Tell the keys below a key where it lies."""
    for child in below:
        struct.pack_into("<I", cells, child - 28 + 16, at)
    return at
