"""Build minimal PE files: headers, one section with import, delay import, export and version tables."""

import struct
from collections.abc import Iterable, Mapping

_MACHINES = {"x86": 0x14C, "x86_64": 0x8664, "aarch64": 0xAA64}
_RVA, _OFFSET, _ALIGNMENT = 0x1000, 0x400, 0x200

Needs = Iterable[str] | Mapping[str, Iterable[str | int]]


def a_pe(
    architecture: str = "x86_64",
    *,
    needs: Needs = (),
    delayed: Needs = (),
    name: str | None = None,
    exports: Iterable[str] | Mapping[str, str | None] = (),
    version: tuple[int, int, int, int] | None = None,
    product: str = "",
    manifest: str | None = None,
    section: tuple[bytes, bytes] = (b".all", b""),
    directory: int | None = None,
    is_library: bool | None = None,
) -> bytes:
    """A program or, with a name, a DLL, whose tables all fit.

    Needs may name the functions (or ordinals) that are imported; an export may name where it is passed on to. The one
    section may have a name and content of its own, to which one of the data directories may point.
    """
    wide = architecture != "x86"
    section_name, content = section
    data = bytearray(content or bytes(16))  # the code, to which every export leads

    def placed(piece: bytes) -> int:
        data.extend(piece + bytes(-len(piece) % 4))
        return _RVA + len(data) - len(piece) - (-len(piece) % 4)

    def text(value: str) -> int:
        return placed(value.encode() + b"\0")

    def lookups(functions: Iterable[str | int]) -> int:
        by_ordinal = 1 << (63 if wide else 31)
        entries = [f | by_ordinal if isinstance(f, int) else placed(b"\0\0" + f.encode() + b"\0") for f in functions]
        return placed(struct.pack(f"<{len(entries) + 1}{'Q' if wide else 'I'}", *entries, 0))

    def named(listed: Needs) -> list[tuple[int, int]]:
        functions = listed if isinstance(listed, Mapping) else dict.fromkeys(listed, ())
        return [(text(need), lookups(wanted)) for need, wanted in functions.items()]

    imports = b"".join(struct.pack("<IIIII", lookup, 0, 0, need, lookup) for need, lookup in named(needs))
    delays = b"".join(struct.pack("<8I", 1, need, lookup, lookup, lookup, 0, 0, 0) for need, lookup in named(delayed))
    directories = [(0, 0)] * 16
    if name is not None:
        targets = exports if isinstance(exports, Mapping) else dict.fromkeys(exports)
        table_rva = placed(bytes(40))
        pointers = b"".join(struct.pack("<I", text(export)) for export in targets)
        addresses = [_RVA if target is None else text(target) for target in targets.values()]
        functions = placed(struct.pack(f"<{len(targets)}I", *addresses))
        ordinals = placed(struct.pack(f"<{len(targets)}H", *range(len(targets))))
        counts = (1, len(targets), len(targets))
        table = struct.pack("<IIHH7I", 0, 0, 0, 0, text(name), *counts, functions, placed(pointers), ordinals)
        placed(bytes(16))  # objdump wants the tables to end well inside the directory
        data[table_rva - _RVA : table_rva - _RVA + 40] = table
        directories[0] = (table_rva, _RVA + len(data) - table_rva)
    if imports:
        directories[1] = (placed(imports + bytes(20)), len(imports) + 20)
    if delays:
        directories[13] = (placed(delays + bytes(32)), len(delays) + 32)
    if version is not None or manifest is not None:
        kind, number, block = (
            (16, 1, _version_block(version, product)) if version else (24, 2 if name else 1, str(manifest).encode())
        )
        resources = _resource(kind, number, block, _RVA + len(data))
        directories[2] = (placed(resources), len(resources))

    if directory is not None:
        directories[directory] = (_RVA, len(content))
    data.extend(bytes(-len(data) % _ALIGNMENT))
    magic = struct.pack("<HBBIIIII", 0x20B if wide else 0x10B, 14, 0, 0, len(data), 0, 0, _RVA)
    bases = struct.pack("<Q", 0x140000000) if wide else struct.pack("<II", _RVA, 0x400000)
    versions = struct.pack("<IIHHHHHHI", _RVA, _ALIGNMENT, 6, 0, 0, 0, 6, 0, 0)
    image = struct.pack("<IIIHH", _RVA + len(data), _OFFSET, 0, 3, 0)
    stacks = struct.pack("<4Q" if wide else "<4I", 1 << 20, 4096, 1 << 20, 4096)
    optional = magic + bases + versions + image + stacks + struct.pack("<II", 0, 16)
    optional += b"".join(struct.pack("<II", *directory) for directory in directories)
    characteristics = 0x2002 if is_library or (is_library is None and name is not None) else 0x0002
    coff = struct.pack("<HHIIIHH", _MACHINES[architecture], 1, 0, 0, 0, len(optional), characteristics)
    section_header = struct.pack(
        "<8sIIIIIIHHI", section_name, len(data), _RVA, len(data), _OFFSET, 0, 0, 0, 0, 0x60000060
    )
    headers = b"MZ" + bytes(58) + struct.pack("<I", 64) + b"PE\0\0" + coff + optional + section_header
    return headers + bytes(_OFFSET - len(headers)) + bytes(data)


def _resource(kind: int, number: int, block: bytes, rva: int) -> bytes:
    """A resource tree with one resource in it: three levels of directories, the data entry, the data."""
    directory = struct.pack("<IIHHHH", 0, 0, 0, 0, 0, 1)
    levels = [directory + struct.pack("<II", n, 0x8000_0000 | 24 * depth) for depth, n in ((1, kind), (2, number))]
    leaf = directory + struct.pack("<II", 0x409, 72)
    return b"".join(levels) + leaf + struct.pack("<IIII", rva + 88, len(block), 0, 0) + block


def _version_block(version: tuple[int, int, int, int], product: str) -> bytes:
    """A version resource: its file and product version in numbers, the product's name and version in words too."""
    major, minor, build, revision = version
    numbers = ((major << 16) | minor, (build << 16) | revision) * 2
    fixed = struct.pack("<IIIIII", 0xFEEF04BD, 0x10000, *numbers) + bytes(28)
    words = (".".join(map(str, version)) + "\0").encode("utf-16-le")
    named = _block("ProductName", (product + "\0").encode("utf-16-le")) if product else b""
    strings = _block("StringFileInfo", b"", _block("040904B0", b"", named + _block("ProductVersion", words)))
    return _block("VS_VERSION_INFO", fixed, strings)


def _block(key: str, value: bytes, children: bytes = b"") -> bytes:
    head = key.encode("utf-16-le") + b"\0\0"
    head += bytes(-(6 + len(head)) % 4)
    body = head + value + bytes(-len(value) % 4) + children
    is_text = key.startswith("Product")
    header = struct.pack("<HHH", 6 + len(body), len(value) // (2 if is_text else 1), int(is_text))
    return header + body + bytes(-(6 + len(body)) % 4)
