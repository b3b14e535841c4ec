"""Read compound files: storages and streams, as install packages (MSI) have them. Source: MS-CFB."""

import struct
import uuid
from array import array
from collections.abc import Iterator
from typing import Any

import msgspec
import olefile

from fundamen.formats.byte_source import ByteSource, MemoryBytes, SourceStream
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_STORAGE, _STREAM = 1, 2
_MOST_ENTRIES = 100_000
_RAISED = (
    OSError,
    ValueError,
    TypeError,
    KeyError,
    IndexError,
    AttributeError,
    OverflowError,
    RecursionError,
    struct.error,
)


class StorageEntry(msgspec.Struct, frozen=True):
    """One storage or stream."""

    name: bytes  # UTF-16LE, without its terminator
    is_stream: bool
    size: int  # bytes, of a stream
    class_id: bytes  # of a storage; 16 bytes
    state: int
    created: int  # 100 ns since 1601
    modified: int
    place: int  # its number in the directory
    entries: tuple["StorageEntry", ...] = ()  # of a storage, in the order of the file


class CompoundFile:
    """A compound file that was opened; its streams are read piece by piece."""

    def __init__(self, source: ByteSource) -> None:
        """Read its directory.

        Raises:
            DamagedFileError: it is no compound file, or a damaged one.
        """
        self._name = printable(source.name)
        self._source = source
        try:
            self._file = olefile.OleFileIO(SourceStream(source), raise_defects=olefile.DEFECT_INCORRECT)
            if len(self._file.direntries) > _MOST_ENTRIES:
                raise ValueError(say("formats.its-directory-has-entries", count=len(self._file.direntries)))
            self.root = _entry(self._file.root)
        except _RAISED as error:
            raise damage_error(
                self._name, say("formats.its-directory-is-damaged", error=error or type(error).__name__)
            ) from error

    def pieces(self, entry: StorageEntry) -> Iterator[bytes]:
        """The bytes of a stream.

        Raises:
            DamagedFileError: its sectors do not hold as many as it claims.
        """
        left = entry.size
        try:
            if entry.size < self._file.minisectorcutoff:
                yield self._small(entry)
                return
            sector, size = self._file.direntries[entry.place].isectStart, self._file.sectorsize
            while left > 0:
                piece = self._source.read_at((sector + 1) * size, min(size, left))
                if len(piece) != min(size, left):
                    break
                yield piece
                left -= len(piece)
                sector = self._file.fat[sector]
        except _RAISED as error:
            raise damage_error(
                self._name, say("formats.a-stream-is-damaged", error=error or type(error).__name__)
            ) from error
        if left:
            raise damage_error(self._name, say("formats.a-stream-ends-bytes-before-it", left=left))

    def source(self, entry: StorageEntry) -> ByteSource:
        """A stream as a source of its own, read where it is asked for.

        Raises:
            DamagedFileError: its sectors do not hold as many bytes as it claims.
        """
        name = say("formats.a-stream", name=self._source.name)
        if entry.size < self._file.minisectorcutoff:
            return MemoryBytes(self.content(entry, entry.size), name)
        sectors = array("I")
        sector, size = self._file.direntries[entry.place].isectStart, self._file.sectorsize
        try:
            for _ in range(-(-entry.size // size)):
                sectors.append(sector)
                sector = self._file.fat[sector]
        except _RAISED as error:
            raise damage_error(
                self._name, say("formats.a-stream-is-damaged", error=error or type(error).__name__)
            ) from error
        return _Sectors(self._source, name, sectors, size, entry.size)

    def content(self, entry: StorageEntry, limit: int) -> bytes:
        """All bytes of a small stream.

        Raises:
            DamagedFileError: it is damaged, or larger than ``limit``.
        """
        if entry.size > limit:
            raise damage_error(self._name, say("formats.a-stream-has-bytes-and-at", size=entry.size, limit=limit))
        return b"".join(self.pieces(entry))

    def _small(self, entry: StorageEntry) -> bytes:
        data: bytes = self._file._open(self._file.direntries[entry.place].isectStart, entry.size).read()  # noqa: SLF001 - it is found by number, not by a name that may not decode
        if len(data) != entry.size:
            raise ValueError(say("formats.it-has-bytes-of", count=len(data), size=entry.size))
        return data


class _Sectors(ByteSource):
    """The bytes of a stream that lies in sectors here and there."""

    def __init__(self, source: ByteSource, name: str, sectors: "array[int]", sector_size: int, size: int) -> None:
        super().__init__(name, size)
        self._source = source
        self._sectors = sectors
        self._sector_size = sector_size

    def _read(self, offset: int, size: int) -> bytes:
        end = offset + size
        pieces = []
        while offset < end:
            index, within = divmod(offset, self._sector_size)
            count = 1  # sectors that follow one another in the file too are read at once
            while (
                index + count < len(self._sectors)
                and (index + count) * self._sector_size < end
                and self._sectors[index + count] == self._sectors[index] + count
            ):
                count += 1
            step = min(end - offset, count * self._sector_size - within)
            pieces.append(self._source.read_at((self._sectors[index] + 1) * self._sector_size + within, step))
            offset += step
        return b"".join(pieces)


def _entry(found: Any, depth: int = 0) -> StorageEntry:  # noqa: ANN401 - olefile comes without types
    if depth > 32:  # noqa: PLR2004 - a directory that nests so deep is made to do harm
        raise ValueError(say("formats.its-storages-are-nested-without-end"))
    if len(found.name_utf16) % 2:
        raise ValueError(say("formats.a-name-in-it-ends-within"))
    is_stream = found.entry_type == _STREAM
    kids = (
        ()
        if is_stream
        else tuple(_entry(kid, depth + 1) for kid in found.kids if kid.entry_type in {_STORAGE, _STREAM})
    )
    return StorageEntry(
        name=found.name_utf16,
        is_stream=is_stream,
        size=found.size if is_stream else 0,
        class_id=uuid.UUID(found.clsid).bytes_le if found.clsid else bytes(16),
        state=found.dwUserFlags,
        created=found.createTime,
        modified=found.modifyTime,
        place=found.sid,
        entries=kids,
    )
