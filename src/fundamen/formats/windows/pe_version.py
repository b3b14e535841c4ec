"""Read the version resource of a PE file.

Source: VS_VERSIONINFO and VS_FIXEDFILEINFO in the Win32 reference.
"""

import struct
from collections.abc import Iterator

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_resources import ResourceType, read_resource

_BLOCK = struct.Struct("<HHH")  # length of the block, of its value, and whether the value is text
_FIXED = struct.Struct("<IIIIIIII")  # signature, structure version, two versions of two words, mask of flags, flags
_DEBUG = 0x1  # VS_FF_DEBUG
_SIGNATURE = 0xFEEF04BD
_TRANSLATION = struct.Struct("<HH")  # language, code page
_MAX_BLOCKS = 1000
_MAX_DEPTH = 4


class VersionInfo(msgspec.Struct, frozen=True):
    """The version of a file: in numbers, and in words as the publisher chose them."""

    file_version: str | None  # four numbers, "4.2.1.0"; None where the resource has none
    product_version: str | None
    strings: dict[str, str]  # such as CompanyName, ProductName, OriginalFilename
    language: int = 0  # the first for which it is translated, as a language identifier; 0: for none, or neutral
    is_debug: bool = False  # whether it was built for those who look for faults in it


def read_version(source: ByteSource, pe: Pe) -> VersionInfo | None:
    """Read the version resource; None where the file has none.

    Raises:
        DamagedFileError: the resource tables do not fit the file.
    """
    block = read_resource(source, pe, ResourceType.VERSION)
    return None if block is None else _version_info(block)


def _version_info(data: bytes) -> VersionInfo:
    file_version = product_version = None
    strings: dict[str, str] = {}
    language, is_debug = 0, False
    for depth, key, value, is_text in _blocks(data, 0, len(data), depth=0):
        if depth == 0 and len(value) >= _FIXED.size:
            signature, _, *numbers, mask, flags = _FIXED.unpack_from(value)
            if signature == _SIGNATURE:
                file_version, product_version = _version_of(*numbers[:2]), _version_of(*numbers[2:])
                is_debug = bool(mask & flags & _DEBUG)
        elif is_text and depth == _MAX_DEPTH - 1:
            strings.setdefault(key, value.decode("utf-16-le", "replace").partition("\0")[0])
        elif key == "Translation" and len(value) >= _TRANSLATION.size:
            language, _ = _TRANSLATION.unpack_from(value)
    return VersionInfo(file_version, product_version, strings, language, is_debug)


def _blocks(data: bytes, at: int, end: int, depth: int) -> Iterator[tuple[int, str, bytes, bool]]:
    """All blocks below each other, each with its depth; what does not fit its parent is left out."""
    for _ in range(_MAX_BLOCKS):
        if at + _BLOCK.size > end:
            return
        length, value_length, is_text = _BLOCK.unpack_from(data, at)
        block_end = min(at + length, end)
        if length <= _BLOCK.size:
            return
        key_at = at + _BLOCK.size
        key_end = key_at
        while key_end + 1 < block_end and data[key_end : key_end + 2] != b"\0\0":
            key_end += 2
        value_at = _align(key_end + 2)
        value_size = value_length * 2 if is_text else value_length
        value_end = min(value_at + value_size, block_end)
        yield depth, data[key_at:key_end].decode("utf-16-le", "replace"), data[value_at:value_end], bool(is_text)
        if depth + 1 < _MAX_DEPTH:
            yield from _blocks(data, _align(value_end), block_end, depth + 1)
        at = _align(block_end)


def _align(at: int) -> int:
    return at + -at % 4


def _version_of(high: int, low: int) -> str:
    return f"{high >> 16}.{high & 0xFFFF}.{low >> 16}.{low & 0xFFFF}"
