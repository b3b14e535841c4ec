"""Unpack cabinets: their folders block by block, and the files that lie in them one behind the other.

A folder may go on in the next cabinet of a set, in the midst of a block; its files are then listed in both.

Source: MS-CAB (structures, checksums), MS-MCI (the MSZIP compression); LZX has a module of its own. Quantum, which no
published document describes, is reported as such.
"""

import io
import struct
import zlib
from collections.abc import Callable, Iterator, Sequence

import msgspec

from fundamen.formats.archives.cabinet import Cabinet, read_cabinet
from fundamen.formats.archives.lzx import LzxUnpacker
from fundamen.formats.archives.packed import Bounds, PackedFile, Unpacked, plain_path
from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_FOLDER = struct.Struct("<IHH")  # coffCabStart, cCFData, typeCompress
_FILE = struct.Struct("<IIHHHH")  # cbFile, uoffFolderStart, iFolder, date, time, attribs
_BLOCK = struct.Struct("<IHH")  # csum, cbData, cbUncomp
_NAME_IS_UTF = 0x80
_STORED, _MSZIP, _QUANTUM, _LZX = range(4)
_METHOD_MASK = 0x000F
_WINDOW_SHIFT, _WINDOW_MASK = 8, 0x1F  # of LZX, in bits
_WORD = 32  # bits
_MSZIP_MARK = b"CK"
_HISTORY = 32768  # bytes that a block may refer back to
_MOST_BLOCK = 32768
_MOST_PACKED = 2 * (_MOST_BLOCK + 6144)  # MS-CAB, CFDATA.cbData: what cannot be packed grows by up to 6144 bytes
_MOST_NAME = 256
_FROM_PREVIOUS, _TO_NEXT, _THROUGH = 0xFFFD, 0xFFFE, 0xFFFF  # instead of a folder: a file that goes over the border

_CONTINUED, _GOING_ON = (_FROM_PREVIOUS, _THROUGH), (_TO_NEXT, _THROUGH)

_Unpack = Callable[[bytes, int], bytes]  # a block's packed bytes, and how many it claims to give


class _Part(msgspec.Struct, frozen=True):
    """As much of a folder as lies in one cabinet."""

    source: ByteSource
    at: int
    block_count: int
    reserved: int  # bytes in each block's header
    method: int


class _File(msgspec.Struct, frozen=True):
    path: str
    size: int
    begin: int  # bytes into its unpacked folder
    folder: int


def unpack_cabinet(*sources: ByteSource) -> Unpacked:
    """Each file with its bytes, folder by folder.

    Args:
        sources: the cabinet; or all cabinets of a set, in their order.

    Raises:
        DamagedFileError: it is damaged, goes on in a cabinet that is not available, is packed in a way that is not read
            here, holds too much, or names a path that leads elsewhere.
    """
    what = say("formats.the-cabinet", name=printable(sources[0].name))
    folders, files = _join_cabinets(sources, what)
    bounds = Bounds(what, sum(source.size for source in sources))
    for file in files:
        bounds.add(file.path, file.size)
    for number, parts in enumerate(folders):
        held = sorted((file for file in files if file.folder == number), key=lambda file: file.begin)
        yield from _unpack_folder(_blocks(what, parts), held, what)


def _join_cabinets(sources: Sequence[ByteSource], what: str) -> tuple[list[list[_Part]], list[_File]]:
    """(the parts of each folder, the files with the numbers of these folders) of all cabinets together."""
    folders: list[list[_Part]] = []
    files: list[_File] = []
    going_on: set[tuple[str, int, int]] = set()  # files that the cabinet before leaves unfinished
    for source in sources:
        header = read_cabinet(source)
        parts = _parts(source, header)
        listed = _files(source, header, what)
        is_continued = bool(going_on) and any(file.folder in _CONTINUED for file in listed)
        first = len(folders) - is_continued  # the number of this cabinet's first folder
        if is_continued and parts:
            if parts[0].method != folders[-1][0].method:
                raise damage_error(what, say("formats.a-folder-is-packed-in-another", name=printable(source.name)))
            folders[-1].append(parts.pop(0))
        folders += [[part] for part in parts]
        is_last = source is sources[-1]
        for file in listed:
            identity = (file.path, file.size, file.begin)
            if file.folder in _CONTINUED and identity not in going_on:
                before = header.previous or say("formats.one-before-it")
                raise damage_error(
                    what,
                    say("formats.its-file-begins-in-which-is", path=printable(file.path), before=printable(before)),
                )
            if file.folder in _GOING_ON and is_last:
                behind = header.following or say("formats.one-behind-it")
                raise damage_error(
                    what, say("formats.its-file-goes-on-in-which", path=printable(file.path), behind=printable(behind))
                )
            number = header.folder_count - 1 if file.folder == _TO_NEXT else file.folder
            if file.folder in _CONTINUED:
                continue
            if not 0 <= number < header.folder_count:
                raise damage_error(
                    what,
                    say(
                        "formats.its-file-lies-in-folder-of",
                        path=printable(file.path),
                        number=number,
                        folder_count=header.folder_count,
                    ),
                )
            files.append(msgspec.structs.replace(file, folder=first + number))
        going_on = {(file.path, file.size, file.begin) for file in listed if file.folder in _GOING_ON}
    return folders, files


def _parts(source: ByteSource, header: Cabinet) -> list[_Part]:
    cursor = Cursor(source, header.folders_at)
    parts = []
    for _ in range(header.folder_count):
        at, count, method = cursor.unpack(_FOLDER, "folder")
        parts.append(_Part(source, at, count, header.per_block, method))
        cursor.at += header.per_folder
    return parts


def _files(source: ByteSource, header: Cabinet, what: str) -> list[_File]:
    """The files that a cabinet lists, with the numbers of its own folders."""
    cursor = Cursor(source, header.files_at)
    files = []
    for _ in range(header.file_count):
        size, begin, folder, _, _, attributes = cursor.unpack(_FILE, "file")
        raw = cursor.text("name of a file", _MOST_NAME).encode("utf-8", "surrogateescape")
        name = raw.decode("utf-8" if attributes & _NAME_IS_UTF else "cp1252", "replace")
        files.append(_File(plain_path(what, name), size, begin, folder))
    return files


def _blocks(what: str, parts: Sequence[_Part]) -> Iterator[bytes]:
    """The unpacked blocks of a folder."""
    unpack = _unpacker_of(what, parts[0].method)
    begun = b""  # of a block that goes over the border of its cabinet
    for data, size in _packed_blocks(what, parts):
        begun += data
        if len(begun) > _MOST_PACKED:
            raise damage_error(what, say("formats.a-block-is-packed-in-more", most_packed=_MOST_PACKED))
        if not size:
            continue
        unpacked = unpack(begun, size)
        if len(unpacked) != size:
            raise damage_error(what, say("formats.a-block-gives-bytes-and-are", count=len(unpacked), size=size))
        begun = b""
        yield unpacked


def _packed_blocks(what: str, parts: Sequence[_Part]) -> Iterator[tuple[bytes, int]]:
    """(a block's packed bytes, how many it claims to give) of all parts; none where it goes on in the next part."""
    for part in parts:
        cursor = Cursor(part.source, part.at)
        for number in range(part.block_count):
            checksum, packed_size, size = cursor.unpack(_BLOCK, "block")
            cursor.at += part.reserved
            data = cursor.take(packed_size, "block")
            if checksum and checksum != _checksum(data) ^ packed_size ^ size << 16:
                raise damage_error(what, say("formats.a-block-does-not-have-its"))
            if size > _MOST_BLOCK:
                raise damage_error(what, say("formats.a-block-is-to-give-bytes", size=size))
            if size or number == part.block_count - 1:
                yield data, size


def _unpacker_of(what: str, compression: int) -> _Unpack:
    """An unpacker for the blocks of a folder, in their order. Raises: DamagedFileError."""
    method = compression & _METHOD_MASK
    if method == _STORED:
        return lambda data, _size: data
    if method == _MSZIP:
        return _Inflating(what).unpack
    if method == _LZX:
        return LzxUnpacker(what, compression >> _WINDOW_SHIFT & _WINDOW_MASK).unpack
    name = "Quantum" if method == _QUANTUM else say("formats.method", method=method)
    raise damage_error(what, say("formats.it-is-packed-with-which-is", name=name))


class _Inflating:
    """MSZIP: each block may refer to the one before it."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._history = b""

    def unpack(self, data: bytes, _size: int) -> bytes:
        if not data.startswith(_MSZIP_MARK):
            raise damage_error(self._what, say("formats.a-block-does-not-begin-like"))
        try:
            unpacked = zlib.decompressobj(-zlib.MAX_WBITS, zdict=self._history).decompress(data[2:], _MOST_BLOCK + 1)
        except zlib.error as error:
            raise damage_error(self._what, say("formats.a-block-cannot-be-unpacked", error=error)) from error
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
            raise damage_error(what, say("formats.its-file-lies-over-another-one", path=printable(file.path)))
        pieces: list[bytes] = []
        left = file.size
        skip = file.begin - (at - len(rest))
        while skip or left:
            if not rest:
                rest = next(blocks, b"")
                at += len(rest)
                if not rest:
                    raise damage_error(
                        what, say("formats.its-file-ends-bytes-before-it", path=printable(file.path), left=left)
                    )
            step = min(skip, len(rest))
            rest, skip = rest[step:], skip - step
            if not skip:
                pieces.append(rest[:left])
                rest, left = rest[len(pieces[-1]) :], left - len(pieces[-1])
        yield PackedFile(file.path, 0o644, file.size), io.BytesIO(b"".join(pieces))
