"""Build minimal ELF files: a header, segments, a dynamic section, a symbol table."""

import struct

_MACHINES = {  # architecture -> (e_machine, bits, byte order)
    "x86_64": (62, 64, "<"),
    "x86": (3, 32, "<"),
    "aarch64": (183, 64, "<"),
    "s390x": (22, 64, ">"),
    "ppc": (20, 32, ">"),
}
_BASE = 0x10000


def an_elf(
    architecture: str = "x86_64",
    *,
    needs: tuple[str, ...] = (),
    soname: str | None = None,
    runpath: str | None = None,
    rpath: str | None = None,
    interpreter: str | None = None,
    exports: tuple[str, ...] = (),
    flags_1: int = 0,
    padding: int = 0,
) -> bytes:
    """A shared library, or with an interpreter a position-independent program, whose tables all fit."""
    machine, bits, order = _MACHINES[architecture]
    word = "Q" if bits == 64 else "I"
    strings = bytearray(b"\0")

    def named(text: str) -> int:
        strings.extend(text.encode("utf-8", "surrogateescape") + b"\0")
        return len(strings) - len(text.encode("utf-8", "surrogateescape")) - 1

    tags = [(1, named(need)) for need in needs]
    tags += [(tag, named(text)) for tag, text in ((14, soname), (29, runpath), (15, rpath)) if text is not None]
    symbol = struct.Struct(order + ("IBBHQQ" if bits == 64 else "IIIBBH"))
    symbols = symbol.pack(*[0] * 6)
    for name in exports:
        entry = (named(name), 0x12, 0, 1, _BASE, 0) if bits == 64 else (named(name), _BASE, 0, 0x12, 0, 1)
        symbols += symbol.pack(*entry)

    header_size, segment_size, section_size = (64, 56, 64) if bits == 64 else (52, 32, 40)
    segment_count = 3 if interpreter else 2
    at = header_size + segment_count * segment_size
    parts: list[bytes] = []

    def placed(data: bytes) -> int:
        nonlocal at
        data += bytes(-len(data) % 8)
        parts.append(data)
        at += len(data)
        return at - len(data)

    interpreter_text = interpreter.encode() + b"\0" if interpreter else b""
    interpreter_at = placed(interpreter_text)
    strings_at, symbols_at = placed(bytes(strings)), placed(symbols)
    hash_at = placed(struct.pack(order + "IIII", 1, 1 + len(exports), 0, 0) + bytes(4 * len(exports)))
    tags += [(5, _BASE + strings_at), (10, len(strings)), (6, _BASE + symbols_at), (11, symbol.size)]
    tags += [(4, _BASE + hash_at), (0x6FFFFFFB, flags_1), (0, 0)]
    dynamic = b"".join(struct.pack(order + word * 2, *tag) for tag in tags)
    dynamic_at = placed(dynamic)
    placed(bytes(padding))
    end = at

    def segment(kind: int, offset: int, size: int) -> bytes:
        address = _BASE + offset
        if bits == 64:
            return struct.pack(order + "IIQQQQQQ", kind, 6, offset, address, address, size, size, 8)
        return struct.pack(order + "IIIIIIII", kind, offset, address, address, size, size, 6, 8)

    segments = segment(1, 0, end) + segment(2, dynamic_at, len(dynamic))
    if interpreter:
        segments = segment(3, interpreter_at, len(interpreter_text)) + segments
    ident = b"\x7fELF" + bytes([bits // 32, 1 if order == "<" else 2, 1]) + bytes(9)
    sizes = (header_size, segment_size, segment_count, section_size, 1, 0)
    header = struct.pack(f"{order}HHI{word}{word}{word}I6H", 3, machine, 1, 0, header_size, end, 0, *sizes)
    return ident + header + segments + b"".join(parts) + bytes(section_size)
