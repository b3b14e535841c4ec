"""Digests of files that were taken before, so that a second survey reads again only what changed.

A digest counts only while the file's device, inode, size, times of modification and of change are what they were. The
time of change is what is trusted: the system sets it whenever content or attributes change, and no program can set it.
What changed within the last seconds before it was read is not remembered, for the next change could bear the same time.
On disk: one file, BLAKE2b (RFC 7693, of 32 bytes) of all that follows, then MessagePack: the version of this form, and
a map from paths to key and MD5. It is rewritten as a whole; one that is not as it was written is as if it were not
there. A file whose name is in no encoding is read again each time.
"""

import hashlib
import os
import struct
from collections.abc import Mapping
from typing import Self

import msgspec

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import write_whole

_FORM = 2
_SETTLED_NS = 3_000_000_000  # how long ago a file must have changed
_TOGETHER = 250_000  # files; what was read of fewer is lost if the process is killed, and is read again
_SUM_SIZE = 32  # bytes
_KEY = struct.Struct("<QQqqq").pack
_WORD = (1 << 64) - 1


class Remembered(msgspec.Struct, frozen=True, gc=False, array_like=True):
    """The remembered facts of one file."""

    key: bytes
    md5: bytes


def key_of(status: os.stat_result) -> bytes:
    """The key under which a digest is remembered."""
    return _KEY(status.st_dev & _WORD, status.st_ino & _WORD, status.st_size, status.st_mtime_ns, status.st_ctime_ns)


def is_unchanged(before: os.stat_result, after: os.stat_result) -> bool:
    """Whether two looks tell of one and the same file as it was: quicker than two keys."""
    return (
        before.st_ino == after.st_ino
        and before.st_dev == after.st_dev
        and before.st_ctime_ns == after.st_ctime_ns
        and before.st_mtime_ns == after.st_mtime_ns
        and before.st_size == after.st_size
    )


def is_settled(status: os.stat_result, now_ns: int) -> bool:
    """Whether a file's last change is so long ago that the next one would bear another time."""
    return status.st_ctime_ns < now_ns - _SETTLED_NS


class Digests:
    """The digests of one machine's files; used as a context, at whose end all is written, however it ends."""

    def __init__(self, folder: HostPath) -> None:
        """Name the folder in which they are kept; it is made when the first is remembered."""
        self._path = os.path.join(folder, "digests")
        self._known: dict[str, Remembered] = {}
        self._unwritten = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_how: object) -> None:
        self._write()

    def all(self) -> dict[str, Remembered]:
        """All that is remembered, by the machine's path; nothing where it cannot be read: then all is read again."""
        try:
            with open(self._path, "rb") as file:
                data = memoryview(file.read())
        except OSError:
            return {}
        if _sum(data[_SUM_SIZE:]) != data[:_SUM_SIZE]:
            return {}
        try:
            form, known = msgspec.msgpack.decode(data[_SUM_SIZE:], type=tuple[int, dict[str, Remembered]])
        except (msgspec.DecodeError, ValueError):
            return {}
        if form == _FORM:
            self._known = known
        return dict(self._known)

    def remember(self, found: Mapping[str, Remembered]) -> None:
        """Keep some more, by path, many of them written together. Raises: UnreadableError: they cannot be written."""
        self._known.update(found)
        self._unwritten += len(found)
        if self._unwritten >= _TOGETHER:
            self._write()

    def _write(self) -> None:
        if not self._unwritten:
            return
        data = msgspec.msgpack.encode((_FORM, self._known))
        try:
            write_whole(self._path, _sum(data) + data)
        except OSError as error:
            raise UnreadableError(
                what=say("survey.the-survey-cannot-be-remembered-for"),
                why=f"{printable(self._path)}: {error.strerror or error}",
                do=say("survey.make-fundamen-own-folder-writable-or"),
            ) from error
        self._unwritten = 0


def _sum(data: bytes | memoryview) -> bytes:
    return hashlib.blake2b(data, digest_size=_SUM_SIZE).digest()


def is_rememberable(path: str) -> bool:
    """Whether a path can be written down: in an encoding."""
    if path.isascii():
        return True
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True
