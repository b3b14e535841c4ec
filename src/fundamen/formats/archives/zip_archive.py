"""Unpack ZIP archives, wheels among them, also those behind a program that unpacks itself. Source: PKWARE's APPNOTE."""

import io
import zipfile
import zlib

from fundamen.formats.archives.packed import MOST_MEMBERS, Bounds, Guarded, PackedFile, Unpacked, plain_path
from fundamen.formats.byte_source import ByteSource, SourceStream
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_RAISED = (
    zipfile.BadZipFile,
    zlib.error,
    OSError,
    EOFError,
    ValueError,
    NotImplementedError,
    RuntimeError,
    KeyError,
    IndexError,
)
_IS_LINK = 0o120000
_KIND_MASK = 0o170000
_MOST_LINK = 4096


def unpack_zip(source: ByteSource) -> Unpacked:
    """Each file with its bytes, in the order of the directory.

    Raises:
        DamagedFileError: it is damaged or encrypted, holds too much, or names a path that leads elsewhere.
    """
    what = say("formats.the-archive", name=printable(source.name))
    bounds = Bounds(what, source.size)
    try:
        with zipfile.ZipFile(SourceStream(source)) as archive:
            if len(archive.infolist()) > MOST_MEMBERS:
                raise damage_error(what, say("formats.it-holds-files-more-than-any", count=len(archive.infolist())))
            for entry in archive.infolist():
                if entry.is_dir():
                    continue
                path = plain_path(what, entry.filename)
                bounds.add(path, entry.file_size)
                mode = entry.external_attr >> 16
                with archive.open(entry) as data:
                    if mode & _KIND_MASK == _IS_LINK:
                        link = data.read(_MOST_LINK).decode("utf-8", "replace")
                        yield PackedFile(path, 0o777, 0, link=link), io.BytesIO()
                    else:
                        yield PackedFile(path, mode & 0o7777 or 0o644, entry.file_size), Guarded(data, what, _RAISED)
    except _RAISED as error:
        raise damage_error(what, say("formats.it-cannot-be-unpacked", error=error or type(error).__name__)) from error
