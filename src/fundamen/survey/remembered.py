"""Digests of files that were taken before, so that a second survey reads again only what changed.

A digest counts only while the file's device, inode, size, times of modification and of change are what they were. The
time of change is what is trusted: the system sets it whenever content or attributes change, and no program can set it.
What changed within the last seconds before it was read is not remembered, for the next change could bear the same time.
On disk: SQLite; one table, ``digest``: path, key, md5 as bytes.
"""

import os
import sqlite3
from collections.abc import Iterable
from contextlib import closing

import msgspec

from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, shown

_FORMAT = 1
_SETTLED_NS = 3_000_000_000  # how long ago a file must have changed
_TABLES = "CREATE TABLE digest (path TEXT PRIMARY KEY, key BLOB NOT NULL, md5 BLOB NOT NULL) STRICT, WITHOUT ROWID;"


class Remembered(msgspec.Struct, frozen=True, gc=False):
    """What is known of one file."""

    key: bytes
    md5: bytes


def key_of(status: os.stat_result) -> bytes:
    """What must be the same for a digest to count."""
    told = (status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns, status.st_ctime_ns)
    return b"%x %x %x %x %x" % told


def is_settled(status: os.stat_result, now_ns: int) -> bool:
    """Whether a file's last change is so long ago that the next one would bear another time."""
    return status.st_ctime_ns < now_ns - _SETTLED_NS


class Digests:
    """The digests of one machine's files."""

    def __init__(self, folder: HostPath) -> None:
        """Name the folder in which they are kept; it is made when the first is remembered."""
        self._path = os.path.join(folder, "digests.sqlite")

    def all(self) -> dict[str, Remembered]:
        """All that is remembered, by the machine's path; nothing where it cannot be read: then all is read anew."""
        if not os.path.exists(self._path):
            return {}
        try:
            with closing(sqlite3.connect(self._path)) as connection:
                if connection.execute("PRAGMA user_version").fetchone()[0] != _FORMAT:
                    return {}
                rows = connection.execute("SELECT path, key, md5 FROM digest")
                return {
                    os.fsdecode(path.encode("utf-8", "surrogateescape")): Remembered(key, md5)
                    for path, key, md5 in rows
                }
        except sqlite3.DatabaseError:
            return {}

    def remember(self, found: Iterable[tuple[str, Remembered]]) -> None:
        """Keep some more. Raises: UnreadableError: they cannot be written."""
        rows = [(path, each.key, each.md5) for path, each in found if _is_text(path)]
        try:
            os.makedirs(os.path.dirname(self._path), exist_ok=True)
            with closing(sqlite3.connect(self._path)) as connection, connection:
                if connection.execute("PRAGMA user_version").fetchone()[0] != _FORMAT:
                    connection.executescript(f"DROP TABLE IF EXISTS digest; {_TABLES} PRAGMA user_version = {_FORMAT};")
                connection.executemany("INSERT OR REPLACE INTO digest VALUES (?, ?, ?)", rows)
        except (sqlite3.DatabaseError, OSError) as error:
            raise UnreadableError(
                what="What was read cannot be remembered for the next survey",
                why=f"{shown(self._path)}: {error}",
                do="Make Fundamen's own folder writable, or remove that file.",
            ) from error


def _is_text(path: str) -> bool:
    """Whether a path can stand in the table; a name in a broken encoding is read anew each time."""
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True
