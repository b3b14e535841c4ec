"""Unpack cabinets: their folders block by block, and the files that lie in them one behind the other.

Source: MS-CAB (structures, checksums), MS-MCI (the MSZIP compression); LZX has a module of its own. Quantum, which no
published document describes, is told as such.
"""

import io
import struct
import zlib
from collections.abc import Callable, Iterator

import msgspec

from fundamen.formats.cabinet import read_cabinet
from fundamen.formats.cursor import ByteSource, Cursor, damaged
from fundamen.formats.lzx import LzxUnpacker
from fundamen.formats.packed import Bounds, PackedFile, Unpacked, plain_path
from fundamen.model.paths import shown

_HEADER = struct.Struct("<4sIIIIIBBHHHHH")
_RESERVE = struct.Struct("<HBB")
_FOLDER = struct.Struct("<IHH")  # coffCabStart, cCFData, typeCompress
_FILE = struct.Struct("<IIHHHH")  # cbFile, uoffFolderStart, iFolder, date, time, attribs
_BLOCK = struct.Struct("<IHH")  # csum, cbData, cbUncomp
_HAS_PREVIOUS, _HAS_NEXT, _HAS_RESERVE = 0x1, 0x2, 0x4
_NAME_IS_UTF = 0x80
_STORED, _MSZIP, _QUANTUM, _LZX = range(4)
_METHOD_MASK = 0x000F
_WINDOW_SHIFT, _WINDOW_MASK = 8, 0x1F  # of LZX, in bits
_WORD = 32  # bits
_MSZIP_MARK = b"CK"
_HISTORY = 32768  # bytes that a block may refer back to
_MOST_BLOCK = 32768
_MOST_NAME = 256
_SPLIT = 0xFFFD  # from here on a file goes over the border of this cabinet

_Unpack = Callable[[bytes, int], bytes]  # a block's packed bytes, and how many it claims to give


class _Folder(msgspec.Struct, frozen=True):
    at: int
    block_count: int
    method: int
    window_bits: int


class _File(msgspec.Struct, frozen=True):
    path: str
    size: int
    begin: int  # bytes into its unpacked folder
    folder: int


def unpack_cabinet(source: ByteSource) -> Unpacked:
    """Each file with its bytes, folder by folder.

    Raises:
        DamagedFileError: it is damaged, goes over several cabinets, is packed in a way that is not read here, holds too
            much, or names a path that leads elsewhere.
    """
    what = f"The cabinet {shown(source.name)}"
    folders, files, reserved = _read(source, what)
    bounds = Bounds(what, source.size)
    for file in files:
        bounds.add(file.path, file.size)
    for number, folder in enumerate(folders):
        held = sorted((file for file in files if file.folder == number), key=lambda file: file.begin)
        yield from _unpack_folder(_blocks(source, what, folder, reserved), held, what)


def _read(source: ByteSource, what: str) -> tuple[list[_Folder], list[_File], int]:
    """(folders, files, bytes that each block reserves)."""
    read_cabinet(source)
    cursor = Cursor(source)
    _, _, _, _, files_at, _, _, _, folder_count, file_count, flags, _, _ = cursor.unpack(_HEADER, "cabinet header")
    per_folder = per_block = 0
    if flags & _HAS_RESERVE:
        reserved, per_folder, per_block = cursor.unpack(_RESERVE, "reserved fields")
        cursor.at += reserved
    for flag in (_HAS_PREVIOUS, _HAS_NEXT):
        if flags & flag:
            cursor.text("name of a cabinet", _MOST_NAME)
            cursor.text("name of a disk", _MOST_NAME)
    folders = []
    for _ in range(folder_count):
        at, count, method = cursor.unpack(_FOLDER, "folder")
        folders.append(_Folder(at, count, method & _METHOD_MASK, method >> _WINDOW_SHIFT & _WINDOW_MASK))
        cursor.at += per_folder
    cursor.at = files_at
    files = []
    for _ in range(file_count):
        size, begin, folder, _, _, attributes = cursor.unpack(_FILE, "file")
        raw = cursor.text("name of a file", _MOST_NAME).encode("utf-8", "surrogateescape")
        name = raw.decode("utf-8" if attributes & _NAME_IS_UTF else "cp1252", "replace")
        if folder >= _SPLIT:
            raise damaged(what, f"its file {shown(name)} goes on in another cabinet")
        if folder >= len(folders):
            raise damaged(what, f"its file {shown(name)} lies in folder {folder} of {len(folders)}")
        files.append(_File(plain_path(what, name), size, begin, folder))
    return folders, files, per_block


def _blocks(source: ByteSource, what: str, folder: _Folder, reserved: int) -> Iterator[bytes]:
    """The unpacked blocks of a folder."""
    unpack = _unpacking(what, folder)
    cursor = Cursor(source, folder.at)
    for _ in range(folder.block_count):
        checksum, packed_size, size = cursor.unpack(_BLOCK, "block")
        cursor.at += reserved
        data = cursor.take(packed_size, "block")
        if checksum and checksum != _checksum(data) ^ packed_size ^ size << 16:
            raise damaged(what, "a block has not the checksum that stands with it")
        if size > _MOST_BLOCK:
            raise damaged(what, f"a block is to give {size} bytes")
        data = unpack(data, size)
        if len(data) != size:
            raise damaged(what, f"a block gives {len(data)} bytes, and {size} are claimed")
        yield data


def _unpacking(what: str, folder: _Folder) -> _Unpack:
    """What unpacks the blocks of a folder, in their order. Raises: DamagedFileError."""
    if folder.method == _STORED:
        return lambda data, _size: data
    if folder.method == _MSZIP:
        return _Inflating(what).unpack
    if folder.method == _LZX:
        return LzxUnpacker(what, folder.window_bits).unpack
    method = "Quantum" if folder.method == _QUANTUM else f"method {folder.method}"
    raise damaged(what, f"it is packed with {method}, which is not read here")


class _Inflating:
    """MSZIP: each block may refer to the one before it."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._history = b""

    def unpack(self, data: bytes, _size: int) -> bytes:
        if not data.startswith(_MSZIP_MARK):
            raise damaged(self._what, "a block does not begin like one of MSZIP")
        try:
            unpacked = zlib.decompressobj(-zlib.MAX_WBITS, zdict=self._history).decompress(data[2:], _MOST_BLOCK + 1)
        except zlib.error as error:
            raise damaged(self._what, f"a block cannot be unpacked: {error}") from error
        self._history = unpacked[-_HISTORY:]
        return unpacked


def _checksum(data: bytes) -> int:
    """All 32-bit words exclusive-ored; what is left at the end counts with its first byte as the highest."""
    whole = len(data) & ~3
    folded, bits = int.from_bytes(data[:whole], "little"), 8 * max(whole, 4)
    while bits > _WORD:  # halved, word by word, until one is left
        half = (bits // 2 + _WORD - 1) // _WORD * _WORD
        folded, bits = folded >> half ^ folded & ((1 << half) - 1), half
    return folded ^ int.from_bytes(data[whole:], "big")


def _unpack_folder(blocks: Iterator[bytes], files: list[_File], what: str) -> Unpacked:
    """The files of a folder in the order in which they lie; files must not lie over one another."""
    at, rest = 0, b""  # how far the folder was read, and what of it is not given yet
    for file in files:
        if file.begin < at - len(rest):
            raise damaged(what, f"its file {shown(file.path)} lies over another one")
        pieces: list[bytes] = []
        left = file.size
        skip = file.begin - (at - len(rest))
        while skip or left:
            if not rest:
                rest = next(blocks, b"")
                at += len(rest)
                if not rest:
                    raise damaged(what, f"its file {shown(file.path)} ends {left} bytes before it should")
            step = min(skip, len(rest))
            rest, skip = rest[step:], skip - step
            if not skip:
                pieces.append(rest[:left])
                rest, left = rest[len(pieces[-1]) :], left - len(pieces[-1])
        yield PackedFile(file.path, 0o644, file.size), io.BytesIO(b"".join(pieces))
