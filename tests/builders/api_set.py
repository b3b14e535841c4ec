"""Build API set schemas in each of their three versions."""

import struct

Sets = dict[str, list[tuple[str, str]]]
SETS: Sets = {
    "ms-win-core-file-l1-2-0": [("", "kernelbase.dll")],
    "ms-win-core-path-l1-1-0": [("", "one.dll"), ("tide.dll", "two.dll")],
    "ms-win-nothing-here-l1-1-0": [],
}


def a_schema(version: int, sets: Sets = SETS) -> bytes:
    """A schema in one of its three versions."""
    prefix = "api-" if version == 6 else ""
    entry_size, header_size = {2: (12, 8), 4: (24, 16), 6: (24, 28)}[version]
    tail = bytearray()
    start = header_size + entry_size * len(sets)

    def placed(data: bytes) -> tuple[int, int]:
        tail.extend(data)
        return start + len(tail) - len(data), len(data)

    entries = b""
    for name, hosts in sets.items():
        name_at = placed((prefix + name).encode("utf-16-le"))
        texts = [(*placed(i.encode("utf-16-le")), *placed(h.encode("utf-16-le"))) for i, h in hosts]
        values = b"".join(struct.pack("<4I", *text) if version == 2 else struct.pack("<5I", 0, *text) for text in texts)
        head = {2: struct.pack("<I", len(hosts)), 4: struct.pack("<II", 0, len(hosts)), 6: b""}[version]
        values_at = placed(head + values)[0]
        if version == 6:
            entries += struct.pack("<IIIIII", 0, *name_at, name_at[1] - 4, values_at, len(hosts))
        else:
            entries += (
                struct.pack("<III", *name_at, values_at)
                if version == 2
                else struct.pack("<6I", 0, *name_at, 0, 0, values_at)
            )
    header = {
        2: struct.pack("<II", 2, len(sets)),
        4: struct.pack("<IIII", 4, 0, 0, len(sets)),
        6: struct.pack("<7I", 6, 0, 0, len(sets), header_size, 0, 0),
    }[version]
    return header + entries + bytes(tail)
