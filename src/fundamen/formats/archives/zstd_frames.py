"""Read what Zstandard has packed, and tell a file that is truncated. Source: RFC 8878, section 3.

The library ends quietly where the packed bytes end, even within a frame; so the blocks are counted first.
"""

from types import TracebackType
from typing import TYPE_CHECKING, Self

from fundamen.formats.byte_source import ByteSource, SourceStream
from fundamen.formats.cursor import damage_error
from fundamen.messages import say

if TYPE_CHECKING:
    import io

_MAGIC = 0xFD2FB528
_SKIPPABLE = range(0x184D2A50, 0x184D2A60)
_DICTIONARY_ID = (0, 1, 2, 4)  # bytes, by the flag
_CONTENT_SIZE = (0, 2, 4, 8)  # likewise; a frame of a single segment has at least one
_RLE, _RESERVED = 1, 3
_MOST_BLOCKS = 1 << 24
_LARGEST_WINDOW = 1 << 27


class ZstdStream:
    """The unpacked bytes, as a file that is read forwards."""

    def __init__(self, source: ByteSource, packed: "io.BufferedReader[SourceStream]") -> None:
        """Begin.

        Args:
            source: the packed file.
            packed: the same as a stream.

        Raises:
            DamagedFileError: it is truncated, or is none.
        """
        import zstandard  # noqa: PLC0415 - seldom met

        require_whole(source)
        self._error = zstandard.ZstdError
        self._reader = zstandard.ZstdDecompressor(max_window_size=_LARGEST_WINDOW).stream_reader(
            packed, read_across_frames=True
        )

    def read(self, size: int = -1, /) -> bytes:
        """The next bytes. Raises: OSError: they are damaged."""
        try:
            return self._reader.read(size)
        except self._error as error:
            raise OSError(str(error)) from error

    def __enter__(self) -> Self:
        return self

    def __exit__(self, _type: type[BaseException] | None, _e: BaseException | None, _t: TracebackType | None) -> None:
        """Nothing is left open: the source is closed by the caller that opened it."""


def require_whole(source: ByteSource) -> None:
    """Make sure that no frame is truncated. Raises: DamagedFileError: one is."""
    at, count = 0, 0
    while at < source.size:
        magic = int.from_bytes(source.read_at(at, 4), "little")
        if magic in _SKIPPABLE:
            at += 8 + int.from_bytes(source.read_at(at + 4, 4), "little")
            continue
        if magic != _MAGIC:
            raise damage_error(source.name, say("formats.at-byte-no-frame-of-zstandard", at=at))
        descriptor = int.from_bytes(source.read_at(at + 4, 1), "little")
        is_single, has_checksum = bool(descriptor & 0x20), bool(descriptor & 0x04)
        at += 5 + (not is_single) + _DICTIONARY_ID[descriptor & 3] + (_CONTENT_SIZE[descriptor >> 6] or is_single)
        is_last = False
        while not is_last:
            header = source.read_at(at, 3)
            count += 1
            if len(header) < 3 or count > _MOST_BLOCKS:  # noqa: PLR2004 - the header's bytes
                raise damage_error(source.name, say("formats.it-is-truncated-at-byte-a", at=at))
            value = int.from_bytes(header, "little")
            is_last, kind, size = bool(value & 1), value >> 1 & 3, value >> 3
            if kind == _RESERVED:
                raise damage_error(source.name, say("formats.at-byte-there-is-a-block", at=at))
            at += 3 + (1 if kind == _RLE else size)
        at += 4 * has_checksum
    if at != source.size:
        raise damage_error(source.name, say("formats.it-is-truncated-within-its-last"))
