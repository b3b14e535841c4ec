"""Read disc images: ISO 9660 with Rock Ridge or Joliet names, or UDF. Sources: ECMA-119, IEEE P1282, ECMA-167."""

import struct
from collections.abc import Iterator
from typing import Any, BinaryIO, cast

import pycdlib
from pycdlib.pycdlibexception import PyCdlibException

from fundamen.formats.archives.packed import Bounds, Guarded, PackedFile, Unpacked, plain_path
from fundamen.formats.byte_source import ByteSource, SourceStream
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_MARK_AT, _MARK = 0x8001, b"CD001"
_RAISED = (PyCdlibException, OSError, ValueError, TypeError, KeyError, IndexError, AttributeError, struct.error)
_MOST_DEPTH = 32


def looks_like_disc_image(source: ByteSource) -> bool:
    """Whether a file has the mark of a disc image."""
    return source.read_at(_MARK_AT, len(_MARK)) == _MARK


def unpack_disc_image(source: ByteSource) -> Unpacked:
    """Each file with its bytes, folder by folder.

    Raises:
        DamagedFileError: it is damaged, holds too much, or names a path that leads elsewhere.
    """
    what = say("formats.the-disc-image", name=printable(source.name))
    bounds = Bounds(what, source.size)
    image = pycdlib.PyCdlib()
    try:
        image.open_fp(cast("BinaryIO", SourceStream(source)))
        try:
            kind = _names(image)
            for path, record in _files(image, kind):
                name = plain_path(what, path)
                size = record.get_data_length()
                if record.is_symlink() or size > source.size:
                    continue
                bounds.add(name, size)
                with image.open_file_from_iso(**{kind: path}) as data:
                    yield PackedFile(name.removesuffix(";1"), 0o644, size), Guarded(data, what, _RAISED)
        finally:
            image.close()
    except (*_RAISED, RecursionError) as error:
        raise damage_error(what, say("formats.it-cannot-be-read", error=error or type(error).__name__)) from error


def _names(image: Any) -> str:  # noqa: ANN401 - the library's types are its own
    """Which of the image's sets of names is the fullest."""
    if image.has_udf():
        return "udf_path"
    if image.has_rock_ridge():
        return "rr_path"
    return "joliet_path" if image.has_joliet() else "iso_path"


def _files(image: Any, kind: str) -> Iterator[tuple[str, Any]]:  # noqa: ANN401
    waiting = [("/", 0)]
    while waiting:
        folder, depth = waiting.pop()
        for record in image.list_children(**{kind: folder}):
            if record is None or record.is_dot() or record.is_dotdot():
                continue
            path = f"{folder.rstrip('/')}/{_name(record, kind)}"
            if not record.is_dir():
                yield path, record
            elif depth < _MOST_DEPTH:
                waiting.append((path, depth + 1))


def _name(record: Any, kind: str) -> str:  # noqa: ANN401
    if kind == "rr_path":
        return str(record.rock_ridge.name().decode("utf-8", "replace"))
    raw: bytes = record.file_identifier()
    encoding = "utf-16-be" if kind == "joliet_path" else "utf-8" if kind == "udf_path" else "ascii"
    return raw.decode(encoding, "replace") if kind != "udf_path" else raw.decode("latin-1")
