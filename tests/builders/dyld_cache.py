"""Build a shared cache of macOS by its published layout: a header of the newer kind, images, their paths."""

import struct


def a_dyld_cache(architecture: str, *paths: str) -> bytes:
    """A cache that lists libraries and holds none."""
    header = struct.pack("<16sII", f"dyld_v1{architecture:>8}".encode(), 0x200, 0).ljust(0x1C0, b"\0")
    header = (header + struct.pack("<II", 0x200, len(paths))).ljust(0x200, b"\0")
    names, images = b"", b""
    for path in paths:
        images += struct.pack("<QQQII", 0x180000000, 0, 0, 0x200 + 32 * len(paths) + len(names), 0)
        names += path.encode() + b"\0"
    return header + images + names
