"""The texts that a person names: files, whole folders of logs, packed logs, bundles of them."""

import contextlib
import os
import stat
from collections.abc import Iterator
from typing import IO

from fundamen.clues.text import Stream
from fundamen.formats.archives.container import find_container
from fundamen.formats.archives.tar_archive import RAISED, looks_like_tar, unpacked_stream
from fundamen.formats.byte_source import ByteSource
from fundamen.machine.file_bytes import FileBytes, open_ordinary
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import HostPath

_MOST_FILES = 20_000  # of a folder
_MOST_UNPACKED = 64 << 30  # bytes of one packed log
_MARK_AT, _MARK = 257, b"ustar"

Text = tuple[str, Stream | FundamenError]  # its name, and its bytes, which are there until the next


def texts_of(path: str) -> Iterator[Text]:
    """All texts that a path stands for; an error in the place of one that cannot be read.

    Args:
        path: of a text, of a packed one, of a bundle (tar, zip, cabinet ...), or of a folder.
    """
    try:
        status = os.stat(path)
        if stat.S_ISDIR(status.st_mode):
            for name in _inside(path):
                yield from _of_file(name)
        else:
            yield from _of_file(path)
    except OSError as error:
        yield path, _unreadable(path, error.strerror or str(error))


def _inside(folder: str) -> Iterator[str]:
    """The regular files below a folder, by name; links are not followed."""
    count = 0
    for where, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            path = os.path.join(where, name)
            with contextlib.suppress(FileNotFoundError):  # a log that was moved away meanwhile
                if stat.S_ISREG(os.lstat(path).st_mode) and count < _MOST_FILES:
                    count += 1
                    yield path


def _of_file(path: str) -> Iterator[Text]:
    try:
        if not stat.S_ISREG(os.stat(path).st_mode):  # handed over by another process: it is read once
            with open_ordinary(path) as file:
                yield path, file
            return
        with FileBytes(HostPath(path), path) as source:
            if not _is_packed(source):
                with open(path, "rb") as plain:
                    yield path, plain
                return
            yield from _of_packed(path, source)
    except OSError as error:
        yield path, _unreadable(path, error.strerror or str(error))


def _is_packed(source: ByteSource) -> bool:
    head = source.read_at(0, 6)
    return looks_like_tar(source) or head.startswith((b"PK\x03\x04", b"MSCF\0\0"))


def _of_packed(path: str, source: ByteSource) -> Iterator[Text]:
    if not _holds_one_text(source):
        container = find_container(source)
        try:
            for file, data in container.unpack() if container is not None else ():
                if not file.link and not file.same_as:
                    yield f"{path}/{file.path}", data
        except FundamenError as error:
            yield path, error
        return
    try:
        stream = unpacked_stream(source)
    except FundamenError as error:
        yield path, error
        return
    with stream:
        yield path, _Bounded(stream, path)


def _holds_one_text(source: ByteSource) -> bool:
    """Whether a packed file is one packed log, and no archive."""
    if source.read_at(0, 4) in {b"PK\x03\x04", b"MSCF"} or source.read_at(_MARK_AT, len(_MARK)) == _MARK:
        return False
    try:
        with unpacked_stream(source) as stream:
            return stream.read(_MARK_AT + len(_MARK))[_MARK_AT:] != _MARK
    except (*RAISED, FundamenError):
        return True  # reading it says what is wrong


class _Bounded:
    """A packed log as a stream, which says what is wrong with it, and ends where no log would go on."""

    def __init__(self, stream: IO[bytes], name: str) -> None:
        self._stream, self._name, self._left = stream, name, _MOST_UNPACKED

    def read(self, size: int, /) -> bytes:
        """The next bytes. Raises: UnreadableError: it is damaged, or holds more than any log does."""
        try:
            data = self._stream.read(size)
        except RAISED as error:
            raise _unreadable(
                self._name, say("clues.it-cannot-be-unpacked", error=error or type(error).__name__)
            ) from error
        self._left -= len(data)
        if self._left < 0:
            raise _unreadable(self._name, say("clues.it-holds-more-than-gib", most_unpacked=_MOST_UNPACKED >> 30))
        return data


def _unreadable(path: str, why: str) -> UnreadableError:
    return UnreadableError(
        what=say("clues.the-log-cannot-be-read", path=printable(path)),
        why=why,
        do=say("clues.check-its-spelling-and-its-rights"),
    )
