"""Read tar archives, packed or not, in one pass. Source: tar(5), POSIX.1-2001 pax interchange format."""

import bz2
import gzip
import io
import lzma
import tarfile
import zlib
from collections.abc import Callable
from typing import IO, cast

from msgspec.structs import replace

from fundamen.formats.archives.packed import Bounds, Guarded, Metered, PackedFile, Unpacked, plain_path, unix_path
from fundamen.formats.byte_source import ByteSource, SourceStream
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable

RAISED = (tarfile.TarError, lzma.LZMAError, zlib.error, OSError, EOFError, ValueError, OverflowError)
_MARK_AT, _MARK = 257, b"ustar"
_MOST_HEADER = 1 << 20  # bytes of a name or of further fields, which are read into memory
_FIELDS = {tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.SOLARIS_XHDTYPE}
_NAMES = {tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK}
_TOP = {"", ".", "/"}  # how the folder is called that all lies in


class _Member(tarfile.TarInfo):
    """A member whose headers are bounded before they are read."""

    def _proc_member(self, archive: tarfile.TarFile) -> tarfile.TarInfo:
        """The door by which every header is taken in."""
        if self.type in _FIELDS | _NAMES and self.size > _MOST_HEADER:
            raise tarfile.ReadError(say("formats.a-header-of-bytes-is-more", size=self.size))
        if self.type == tarfile.GNUTYPE_SPARSE:
            raise tarfile.ReadError(say("formats.it-holds-a-file-with-holes"))
        member: tarfile.TarInfo = super()._proc_member(archive)  # type: ignore[misc]
        return member

    def _proc_gnusparse_10(self, *_rest: object) -> None:
        raise tarfile.ReadError(say("formats.it-holds-a-file-with-holes"))


def looks_like_tar(source: ByteSource) -> bool:
    """Whether a file is a tar archive, or a packed file that may hold one."""
    head = source.read_at(0, 6)
    is_packed = head.startswith((b"\x1f\x8b", b"BZh", b"\xfd7zXZ", b"\x28\xb5\x2f\xfd"))
    return is_packed or source.read_at(_MARK_AT, len(_MARK)) == _MARK


def unpack_tar(source: ByteSource) -> Unpacked:
    """Each file and link with its bytes; the bytes are there until the next.

    Raises:
        DamagedFileError: it is damaged, holds too much, or names a path that leads elsewhere.
    """
    what = say("formats.the-archive", name=printable(source.name))
    return _walk(what, unpacked_stream(source), Bounds(what, source.size), plain_path, folders=False)


def walk_unix_tar(what: str, stream: IO[bytes], bounds: Bounds) -> Unpacked:
    """The same for a stream of tar that is for Unix alone; its folders, too, but the one that all lies in."""
    return _walk(what, stream, bounds, unix_path, folders=True)


def _walk(what: str, stream: IO[bytes], bounds: Bounds, plain: Callable[[str, str], str], *, folders: bool) -> Unpacked:
    try:
        metered = cast("IO[bytes]", Metered(stream, bounds))
        with tarfile.open(fileobj=metered, mode="r|", errorlevel=2, tarinfo=_Member) as archive:
            for member in archive:
                if member.isdir() and (member.name in _TOP or not folders):
                    continue
                path = plain(what, member.name)
                packed = PackedFile(path, member.mode & 0o7777, 0, owner=member.uname, group=member.gname)
                if member.isdir():  # which may be there twice
                    bounds.count(0)
                    yield replace(packed, is_folder=True), io.BytesIO()
                    continue
                bounds.add(path, member.size)
                if member.issym():
                    yield replace(packed, mode=0o777, link=member.linkname), io.BytesIO()
                elif member.islnk():
                    yield replace(packed, same_as=plain(what, member.linkname)), io.BytesIO()
                elif member.isreg():
                    data = archive.extractfile(member)
                    assert data is not None  # noqa: S101 - it is a regular file
                    yield replace(packed, size=member.size), Guarded(data, what, RAISED)
    except RAISED as error:
        raise damage_error(what, say("formats.it-cannot-be-unpacked", error=error or type(error).__name__)) from error


def unpacked_stream(source: ByteSource) -> IO[bytes]:
    """The bytes of a file, unpacked where it is packed by gzip, bzip2, xz or Zstandard. Reading it may raise RAISED.

    Raises:
        DamagedFileError: it is truncated, and its beginning shows that.
    """
    packed = io.BufferedReader(SourceStream(source), 1 << 18)
    head = source.read_at(0, 6)
    if head.startswith(b"\x1f\x8b"):
        return cast("IO[bytes]", gzip.GzipFile(fileobj=packed))
    if head.startswith(b"BZh"):
        return cast("IO[bytes]", bz2.BZ2File(packed))
    if head.startswith(b"\xfd7zXZ"):
        return cast("IO[bytes]", lzma.LZMAFile(packed))
    if head.startswith(b"\x28\xb5\x2f\xfd"):
        from fundamen.formats.archives.zstd_frames import ZstdStream  # noqa: PLC0415 - seldom met

        return cast("IO[bytes]", ZstdStream(source, packed))
    return packed
