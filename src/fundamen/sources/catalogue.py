"""A catalogue of packages, as a planner asks it: by the names of what is needed.

One that was proven of a source is kept in an index (SQLite): of a catalogue with very many packages only those are read
that may matter. What the system's archive or media have for a need is a short list.
"""

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from datetime import datetime
from enum import StrEnum
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Protocol

import msgspec

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json
from fundamen.model.errors import UnreadableError
from fundamen.model.package import Package

_FORMAT = 2
_AT_ONCE = 500  # names in one question
_TABLES = """
CREATE TABLE shard (path TEXT PRIMARY KEY, sha256 TEXT NOT NULL) STRICT;
CREATE TABLE package (
    number INTEGER PRIMARY KEY,
    shard TEXT NOT NULL,
    title TEXT NOT NULL,
    record BLOB NOT NULL  -- JSON: Package
) STRICT;
CREATE INDEX package_by_shard ON package (shard);
CREATE TABLE name (name TEXT NOT NULL, package INTEGER NOT NULL, PRIMARY KEY (name, package)) STRICT, WITHOUT ROWID;
CREATE INDEX name_by_package ON name (package);
CREATE TABLE fact (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
"""
# Since format 2: what a source carries beside packages.
_DOCUMENTS = "CREATE TABLE document (path TEXT PRIMARY KEY, sha256 TEXT NOT NULL, content BLOB NOT NULL) STRICT;"


class SourceKind(StrEnum):
    """Kinds of sources; a signed catalogue goes before one that is asked for one need alone."""

    CATALOGUE = "catalogue"
    ARCHIVE = "archive"  # the operating system's own
    MEDIA = "media"
    REFERENCE = "reference"


class Source(msgspec.Struct, frozen=True):
    """One source that the technician trusts."""

    name: str
    location: str
    fingerprint: str
    trusted_at: datetime
    mirrors: tuple[str, ...] = ()  # further places where the same source lies
    authority: str = ""  # certificates in PEM that its servers' chains may end in
    kind: SourceKind = SourceKind.CATALOGUE

    @property
    def locations(self) -> tuple[str, ...]:
        """All places, in the order in which they are tried."""
        return (self.location, *self.mirrors)


class Catalogue(Protocol):
    """The catalogue of a source, every word of it proven."""

    @property
    def source(self) -> Source:
        """Whose it is."""

    @property
    def expires_at(self) -> datetime:
        """Until when its proofs hold."""

    @property
    def is_owner(self) -> bool:
        """Whether what is on the machine came from it, as the machine's package database says."""

    @property
    def count(self) -> int:
        """How many packages it has."""

    @property
    def packages(self) -> tuple[Package, ...]:
        """All of them, by their titles; there may be very many."""

    def packages_with(self, names: Iterable[str]) -> tuple[Package, ...]:
        """The packages that have a file of one of the names, compared without case; ``*`` stands for anything."""

    def first(self, count: int) -> tuple[Package, ...]:
        """The first so many, by their titles."""


class ListedCatalogue:
    """A catalogue of a few packages."""

    def __init__(
        self, source: Source, packages: tuple[Package, ...], expires_at: datetime, *, is_owner: bool = False
    ) -> None:
        """Take them as they are."""
        self.source, self.packages, self.expires_at, self.is_owner = source, packages, expires_at, is_owner

    @property
    def count(self) -> int:
        """How many packages it has."""
        return len(self.packages)

    def packages_with(self, names: Iterable[str]) -> tuple[Package, ...]:
        """The packages that have a file of one of the names, or a link or folder at one of the paths."""
        found: set[int] = set()
        for name in map(str.lower, names):
            if "*" in name:
                found.update(*(places for each, places in self._places.items() if fnmatchcase(each, name)))
            else:
                found.update(self._places.get(name, ()))
        return tuple(self.packages[place] for place in sorted(found))

    def with_packages(self, packages: tuple[Package, ...]) -> "ListedCatalogue":
        """The same with other packages."""
        return ListedCatalogue(self.source, packages, self.expires_at, is_owner=self.is_owner)

    @cached_property
    def _places(self) -> dict[str, set[int]]:
        """Which packages have something that answers to a name."""
        places: dict[str, set[int]] = {}
        for place, package in enumerate(self.packages):
            for entry in package.entries:
                for name in entry.names:
                    places.setdefault(name.lower(), set()).add(place)
        return places

    def first(self, count: int) -> tuple[Package, ...]:
        """The first so many."""
        return self.packages[:count]


class Index:
    """The index of one source's catalogue, as it was last proven."""

    def __init__(self, path: str) -> None:
        """Name its file; it is made when something is put into it."""
        self._path = path

    def all_digests(self) -> dict[str, str]:
        """The digest of each shard and document that is in it, by its path. Raises: UnreadableError."""
        with self._open_index() as connection:
            return dict(connection.execute("SELECT path, sha256 FROM shard UNION SELECT path, sha256 FROM document"))

    def documents(self) -> dict[str, bytes]:
        """The content of each document that is in it, by its path. Raises: UnreadableError."""
        with self._open_index() as connection:
            return dict(connection.execute("SELECT path, content FROM document ORDER BY path"))

    def update(
        self,
        shards: Iterable[tuple[str, str, tuple[Package, ...]]],
        gone: Iterable[str],
        documents: Iterable[tuple[str, str, bytes]],
        gone_documents: Iterable[str],
        expires_at: datetime,
    ) -> None:
        """Take over what was proven, all of it or nothing.

        Args:
            shards: of those that are new: path, SHA-256, its packages; what they raise passes through.
            gone: the paths of those that are no more.
            documents: of those that are new: path, SHA-256, content.
            gone_documents: the paths of those that are no more.
            expires_at: until when the proofs hold.

        Raises:
            UnreadableError: it cannot be written.
        """
        with self._open_index() as connection, connection:
            for path in gone:
                _take_out(connection, path)
            for path, sha256, packages in shards:
                _take_out(connection, path)
                connection.execute("INSERT INTO shard VALUES (?, ?)", (path, sha256))
                for package in packages:
                    row = (path, package.title, encode_json(package))
                    cursor = connection.execute("INSERT INTO package (shard, title, record) VALUES (?, ?, ?)", row)
                    connection.executemany(
                        "INSERT INTO name VALUES (?, ?)", ((name, cursor.lastrowid) for name in _names_of(package))
                    )
            for path in gone_documents:
                connection.execute("DELETE FROM document WHERE path = ?", (path,))
            connection.executemany("INSERT OR REPLACE INTO document VALUES (?, ?, ?)", documents)
            connection.execute("INSERT OR REPLACE INTO fact VALUES ('expires_at', ?)", (expires_at.isoformat(),))

    def expires_at(self) -> datetime | None:
        """Until when the proofs hold; None where nothing was ever put into it. Raises: UnreadableError."""
        with self._open_index() as connection:
            row = connection.execute("SELECT value FROM fact WHERE key = 'expires_at'").fetchone()
        return datetime.fromisoformat(row[0]) if row is not None else None

    def count(self) -> int:
        """How many packages are in it. Raises: UnreadableError."""
        with self._open_index() as connection:
            return int(connection.execute("SELECT count(*) FROM package").fetchone()[0])

    def first(self, count: int) -> tuple[Package, ...]:
        """The first so many, by their titles. Raises: UnreadableError."""
        with self._open_index() as connection:
            rows = connection.execute("SELECT record FROM package ORDER BY title LIMIT ?", (count,)).fetchall()
        return tuple(msgspec.json.decode(record, type=Package) for (record,) in rows)

    def packages_with(self, names: Iterable[str]) -> tuple[Package, ...]:
        """The packages that have a file of one of the names. Raises: UnreadableError."""
        # What no text can hold, no catalogue lists: such names come out of damaged files.
        folded = sorted({name.lower() for name in names if _is_text(name)})
        plain = [name for name in folded if "*" not in name]
        found: dict[int, None] = {}
        with self._open_index() as connection:
            for at in range(0, len(plain), _AT_ONCE):
                some = plain[at : at + _AT_ONCE]
                marks = ",".join("?" * len(some))
                found.update(dict.fromkeys(n for (n,) in connection.execute(_BY_NAME.format(marks), some)))
            for pattern in folded:
                if "*" in pattern:
                    escaped = pattern.replace("[", "[[]").replace("?", "[?]")
                    like = connection.execute("SELECT package FROM name WHERE name GLOB ?", (escaped,))
                    found.update(dict.fromkeys(number for (number,) in like))
            question = "SELECT record FROM package WHERE number = ?"
            records = [connection.execute(question, (number,)).fetchone()[0] for number in sorted(found)]
        return tuple(msgspec.json.decode(record, type=Package) for record in records)

    @contextmanager
    def _open_index(self) -> Iterator[sqlite3.Connection]:
        try:
            with closing(sqlite3.connect(self._path)) as connection:
                self._prepare(connection)
                yield connection
        except (sqlite3.DatabaseError, msgspec.DecodeError, ValueError) as error:
            raise UnreadableError(
                what=say("sources.the-record-of-a-trusted-source"),
                why=f"{printable(self._path)}: {error}",
                do=say("sources.forget-the-source-and-trust-it"),
            ) from error

    @staticmethod
    def _prepare(connection: sqlite3.Connection) -> None:
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        if version == 0:
            connection.executescript(f"BEGIN; {_TABLES} {_DOCUMENTS} PRAGMA user_version = {_FORMAT}; COMMIT;")
        elif version == 1:
            connection.executescript(f"BEGIN; {_DOCUMENTS} PRAGMA user_version = {_FORMAT}; COMMIT;")
        elif version != _FORMAT:
            raise ValueError(say("sources.it-has-format-and-this-version", version=version, format=_FORMAT))


_BY_NAME = "SELECT DISTINCT package FROM name WHERE name IN ({})"


class IndexedCatalogue(msgspec.Struct, frozen=True):
    """The last proven catalogue of a source, asked in its index."""

    source: Source
    index: Index
    expires_at: datetime
    is_owner: bool = False

    @property
    def count(self) -> int:
        """How many packages it has."""
        return self.index.count()

    @property
    def packages(self) -> tuple[Package, ...]:
        """All of them, by their titles."""
        return self.index.first(-1)

    def packages_with(self, names: Iterable[str]) -> tuple[Package, ...]:
        """The packages that have a file of one of the names."""
        return self.index.packages_with(names)

    def first(self, count: int) -> tuple[Package, ...]:
        """The first so many, by their titles."""
        return self.index.first(count)


def _is_text(name: str) -> bool:
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def _take_out(connection: sqlite3.Connection, shard: str) -> None:
    connection.execute("DELETE FROM name WHERE package IN (SELECT number FROM package WHERE shard = ?)", (shard,))
    connection.execute("DELETE FROM package WHERE shard = ?", (shard,))
    connection.execute("DELETE FROM shard WHERE path = ?", (shard,))


def _names_of(package: Package) -> set[str]:
    """Names of a package's files in needs."""
    return {name.lower() for file in package.files for name in (file.name, file.place.rpartition("/")[2])}
