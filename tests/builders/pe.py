"""Build minimal PE files: headers, one section with import, delay import and export tables."""

import struct

_MACHINES = {"x86": 0x14C, "x86_64": 0x8664, "aarch64": 0xAA64}
_RVA, _OFFSET, _ALIGNMENT = 0x1000, 0x400, 0x200


def a_pe(
    architecture: str = "x86_64",
    *,
    needs: tuple[str, ...] = (),
    delayed: tuple[str, ...] = (),
    name: str | None = None,
    exports: tuple[str, ...] = (),
) -> bytes:
    """A program or, with a name, a DLL, whose tables all fit."""
    wide = architecture != "x86"
    data = bytearray()

    def placed(piece: bytes) -> int:
        data.extend(piece + bytes(-len(piece) % 4))
        return _RVA + len(data) - len(piece) - (-len(piece) % 4)

    def text(value: str) -> int:
        return placed(value.encode() + b"\0")

    lookup = placed(bytes(16))
    imports = b"".join(struct.pack("<IIIII", lookup, 0, 0, text(need), lookup) for need in needs) + bytes(20)
    delays = b"".join(struct.pack("<8I", 1, text(need), lookup, lookup, lookup, 0, 0, 0) for need in delayed)
    directories = [(0, 0)] * 16
    if name is not None:
        table_rva = placed(bytes(40))
        pointers = b"".join(struct.pack("<I", text(export)) for export in exports)
        functions = placed(struct.pack(f"<{len(exports)}I", *[_RVA] * len(exports)))
        ordinals = placed(struct.pack(f"<{len(exports)}H", *range(len(exports))))
        counts = (1, len(exports), len(exports))
        table = struct.pack("<IIHH7I", 0, 0, 0, 0, text(name), *counts, functions, placed(pointers), ordinals)
        placed(bytes(16))  # objdump wants the tables to end well inside the directory
        data[table_rva - _RVA : table_rva - _RVA + 40] = table
        directories[0] = (table_rva, _RVA + len(data) - table_rva)
    directories[1] = (placed(imports), len(imports)) if needs else (0, 0)
    directories[13] = (placed(delays + bytes(32)), len(delays) + 32) if delayed else (0, 0)

    data.extend(bytes(-len(data) % _ALIGNMENT))
    magic = struct.pack("<HBBIIIII", 0x20B if wide else 0x10B, 14, 0, 0, len(data), 0, 0, _RVA)
    bases = struct.pack("<Q", 0x140000000) if wide else struct.pack("<II", _RVA, 0x400000)
    versions = struct.pack("<IIHHHHHHI", _RVA, _ALIGNMENT, 6, 0, 0, 0, 6, 0, 0)
    image = struct.pack("<IIIHH", _RVA + len(data), _OFFSET, 0, 3, 0)
    stacks = struct.pack("<4Q" if wide else "<4I", 1 << 20, 4096, 1 << 20, 4096)
    optional = magic + bases + versions + image + stacks + struct.pack("<II", 0, 16)
    optional += b"".join(struct.pack("<II", *directory) for directory in directories)
    characteristics = 0x2002 if name is not None else 0x0002
    coff = struct.pack("<HHIIIHH", _MACHINES[architecture], 1, 0, 0, 0, len(optional), characteristics)
    section = struct.pack("<8sIIIIIIHHI", b".all", len(data), _RVA, len(data), _OFFSET, 0, 0, 0, 0, 0x60000060)
    headers = b"MZ" + bytes(58) + struct.pack("<I", 64) + b"PE\0\0" + coff + optional + section
    return headers + bytes(_OFFSET - len(headers)) + bytes(data)
