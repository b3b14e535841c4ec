"""Build minimal managed images: a CLI header and the few metadata tables that matter here (ECMA-335, Partition II)."""

import hashlib
import struct
from collections.abc import Iterable

from builders.pe import a_pe

_CLI_HEADER_AT, _HEADER_SIZE, _DIRECTORY = 0x1000, 72, 14
_IL_ONLY = 1

FRAMEWORK_TOKEN = "b77a5c561934e089"  # noqa: S105 - a public key's name
CORE = f"mscorlib, 4.0.0.0, {FRAMEWORK_TOKEN}"


def token_of(key: str) -> str:
    """The token of a made-up public key."""
    return hashlib.sha1(key.encode(), usedforsecurity=False).digest()[-8:][::-1].hex()


def a_managed(
    name: str,
    version: str = "1.0.0.0",
    *,
    refers_to: Iterable[str] = (CORE,),
    key: str = "",
    target: str = "",
    calls: Iterable[str] = (),
    runtime: str = "v4.0.30319",
    flags: int = _IL_ONLY,
    architecture: str = "x86",
    is_library: bool = True,
    needs: Iterable[str] = (),
) -> bytes:
    """An assembly; each reference is ``NAME, VERSION`` or ``NAME, VERSION, TOKEN``; it calls native libraries."""
    strings, blobs = bytearray(b"\0"), bytearray(b"\0")

    def text(value: str) -> int:
        strings.extend(value.encode() + b"\0")
        return len(strings) - len(value) - 1 if value else 0

    def blob(value: bytes) -> int:
        blobs.extend(bytes([len(value)]) + value)
        return len(blobs) - len(value) - 1 if value else 0

    def numbers(dotted: str) -> tuple[int, ...]:
        return tuple(map(int, dotted.split(".")))

    references = [[part.strip() for part in reference.split(",")] for reference in refers_to]
    modules = [text(library) for library in calls]
    tables = {
        0x00: [struct.pack("<5H", 0, text(name + ".dll"), 1, 0, 0)],
        0x01: [struct.pack("<3H", 1 << 2 | 2, text("TargetFrameworkAttribute"), text("System"))] if target else [],
        0x02: [struct.pack("<IHHHHH", 0, text("<Module>"), 0, 0, 1, 1)],
        0x0A: [struct.pack("<3H", 1 << 3 | 1, text(".ctor"), blob(b"\x20\x01\x01\x0e"))] if target else [],
        0x0C: [],
        0x1A: [struct.pack("<H", module) for module in modules],
        0x1C: [struct.pack("<4H", 0, 0, text("Call"), number) for number, _ in enumerate(modules, 1)],
        0x20: [struct.pack("<I4HIHHH", 0x8004, *numbers(version), 0, blob(key.encode()), text(name), 0)],
        0x23: [
            struct.pack("<4HIHHHH", *numbers(asked), 0, blob(bytes.fromhex("".join(token))), text(other), 0, 0)
            for other, asked, *token in references
        ],
    }
    if target:
        value = b"\x01\0" + bytes([len(target)]) + target.encode() + b"\0\0"
        tables[0x0C] = [struct.pack("<3H", 1 << 5 | 14, 1 << 3 | 3, blob(value))]
    present = {number: rows for number, rows in tables.items() if rows}
    header = struct.pack("<IBBBBQQ", 0, 2, 0, 0, 1, sum(1 << number for number in present), 1 << 0x0C)
    counts = struct.pack(f"<{len(present)}I", *map(len, present.values()))
    stream = header + counts + b"".join(b"".join(rows) for rows in present.values())
    metadata = _metadata(runtime, {"#~": stream, "#Strings": bytes(strings), "#Blob": bytes(blobs), "#GUID": bytes(16)})
    root = _CLI_HEADER_AT + _HEADER_SIZE
    cli = struct.pack("<IHHIIII", _HEADER_SIZE, 2, 5, root, len(metadata), flags, 0).ljust(_HEADER_SIZE, b"\0")
    return a_pe(
        architecture, section=(b".text", cli + metadata), directory=_DIRECTORY, is_library=is_library, needs=needs
    )


def _metadata(runtime: str, streams: dict[str, bytes]) -> bytes:
    version = runtime.encode().ljust(len(runtime) + 4 - len(runtime) % 4, b"\0")
    root = struct.pack("<IHHII", 0x424A5342, 1, 1, 0, len(version)) + version + struct.pack("<HH", 0, len(streams))
    names = {name: name.encode().ljust(len(name) + 4 - len(name) % 4, b"\0") for name in streams}
    at = len(root) + sum(8 + len(name) for name in names.values())
    headers, content = b"", b""
    for name, data in streams.items():
        padded = data + bytes(-len(data) % 4)
        headers += struct.pack("<II", at + len(content), len(padded)) + names[name]
        content += padded
    return root + headers + content
