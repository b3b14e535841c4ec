"""The journal: what is about to be changed, written down before it is changed (docs/formats/journal.md).

Guarantees: a step's row with all that is needed to undo it is on the disk before its target is touched; a
restoration that is not marked as ended was interrupted.
"""

import json
import os
import sqlite3
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import closing, contextmanager
from datetime import datetime
from enum import StrEnum

import msgspec

from fundamen.changes.base import ElsewhereError, Record, Site
from fundamen.changes.kinds import decode_record
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json, to_plain
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.flushing import make_lasting

_FORMAT = 3
_READ_FORMATS = {1, 2, _FORMAT}  # they differ in what a step's record holds

_TABLES = """
CREATE TABLE restoration (
    number INTEGER PRIMARY KEY AUTOINCREMENT,
    started_at TEXT NOT NULL,  -- ISO 8601, UTC
    state TEXT NOT NULL,
    record TEXT NOT NULL       -- JSON: RestorationRecord
) STRICT;
CREATE TABLE step (
    restoration INTEGER NOT NULL REFERENCES restoration,
    number INTEGER NOT NULL,
    state TEXT NOT NULL,
    record TEXT NOT NULL,      -- JSON: StepRecord
    PRIMARY KEY (restoration, number)
) STRICT;
"""
# The originals that a journal keeps lie in a folder of this name: so no other journal takes them for its own.
_IDENTITY = "CREATE TABLE IF NOT EXISTS identity (name TEXT NOT NULL) STRICT"


class RestorationState(StrEnum):
    """How far a restoration has come."""

    UNDER_WAY = "under way"  # also: interrupted
    DONE = "done"
    TAKEN_BACK = "taken back"  # it failed, and all is as it was before
    UNDOING = "being undone"  # also: its undoing was interrupted
    UNDONE = "undone"
    FOR_GOOD = "for good"  # done, and its originals are kept no longer


_UNFINISHED = frozenset({RestorationState.UNDER_WAY, RestorationState.UNDOING})
STANDING = _UNFINISHED | {RestorationState.DONE}  # of these the originals are kept


class StepState(StrEnum):
    """How far one step has come."""

    KEPT = "kept"  # the original is safe; the target may be old or new
    PLACED = "placed"
    TAKEN_BACK = "taken back"


class RestorationRecord(msgspec.Struct, frozen=True):
    """The purpose of a restoration, and its packages."""

    program: MachinePath
    packages: tuple[str, ...]  # for people
    further: tuple[MachinePath, ...] = ()  # programs that it is for as well
    because: str = ""  # the reason that was given for what no one proposed, such as an older version


class JournalStep(msgspec.Struct, frozen=True):
    """One row of the journal."""

    number: int
    state: StepState
    record: Record


class JournalEntry(msgspec.Struct, frozen=True):
    """One restoration in the journal."""

    number: int
    program: MachinePath
    started_at: datetime
    state: RestorationState
    packages: tuple[str, ...]
    steps: tuple[JournalStep, ...]
    because: str = ""

    @property
    def is_unfinished(self) -> bool:
        """Whether it was interrupted, or is under way this moment."""
        return self.state in _UNFINISHED


class Journal:
    """The journal of one machine."""

    def __init__(self, site: Site) -> None:
        """Open the journal in a folder; the folder is made by the first restoration, not by a look.

        Raises:
            UnreadableError: the journal is damaged, or from a newer version.
        """
        self.site, self.folder = site, site.folder
        self._path = os.path.join(site.folder, "journal.sqlite")

    def next_number(self) -> int:
        """The number that the next restoration gets; the holder of the machine's lock may count on it."""
        make_lasting(self.folder)
        with self._open_to_change() as connection:
            row = connection.execute("SELECT seq FROM sqlite_sequence WHERE name = 'restoration'").fetchone()
        return (row[0] if row is not None else 0) + 1

    def begin(self, record: RestorationRecord, now: datetime, steps: Sequence[Record]) -> JournalEntry:
        """Write down that a restoration begins, with all that it is going to do."""
        with self._open_to_change() as connection:
            cursor = connection.execute(
                "INSERT INTO restoration (started_at, state, record) VALUES (?, ?, ?)",
                (now.isoformat(), RestorationState.UNDER_WAY, encode_record(record)),
            )
            number = int(cursor.lastrowid or 0)
            rows = [(number, index, StepState.KEPT, encode_record(step)) for index, step in enumerate(steps)]
            connection.executemany("INSERT INTO step VALUES (?, ?, ?, ?)", rows)
        kept = tuple(JournalStep(index, StepState.KEPT, step) for index, step in enumerate(steps))
        return JournalEntry(number, record.program, now, RestorationState.UNDER_WAY, record.packages, kept)

    def take_in(self, record: RestorationRecord, begun: datetime, steps: Sequence[Record]) -> int:
        """Write down a restoration that another journal knew, as one that is done, and give its number here."""
        entry = self.begin(record, begun, steps)
        self.mark(entry.number, RestorationState.DONE)
        return entry.number

    def mark(self, restoration: int, state: RestorationState) -> None:
        """Write down how far a restoration has come."""
        with self._open_to_change() as connection:
            connection.execute("UPDATE restoration SET state = ? WHERE number = ?", (state, restoration))

    def write_steps(self, restoration: int, steps: Iterable[JournalStep]) -> None:
        """Write down how far some steps have come."""
        rows = [(restoration, step.number, step.state, encode_record(step.record)) for step in steps]
        with self._open_to_change() as connection:
            connection.executemany("INSERT OR REPLACE INTO step VALUES (?, ?, ?, ?)", rows)

    def entries(self, states: Collection[RestorationState] = tuple(RestorationState)) -> tuple[JournalEntry, ...]:
        """The restorations that are in one of some states, the oldest first.

        Raises:
            UnreadableError: the journal cannot be read.
        """
        if not os.path.exists(self._path):
            return ()
        marks = ", ".join("?" * len(states))
        question = f"SELECT number, started_at, state, record FROM restoration WHERE state IN ({marks}) ORDER BY 1"  # noqa: S608
        with self._open_database() as connection:
            rows = connection.execute(question, tuple(states)).fetchall()
            return tuple(self._entry(connection, row) for row in rows)

    def find(self, number: int) -> JournalEntry | None:
        """One restoration; None where there is none of this number. Raises: UnreadableError."""
        if not os.path.exists(self._path):
            return None
        question = "SELECT number, started_at, state, record FROM restoration WHERE number = ?"
        with self._open_database() as connection:
            row = connection.execute(question, (number,)).fetchone()
            return self._entry(connection, row) if row is not None else None

    def programs(self) -> tuple[MachinePath, ...]:
        """The programs for which restorations stand, each once. Raises: UnreadableError."""
        if not os.path.exists(self._path):
            return ()
        with self._open_database() as connection:
            rows = connection.execute("SELECT record FROM restoration WHERE state = ?", (RestorationState.DONE,))
            records = [msgspec.convert(json.loads(record), type=RestorationRecord) for (record,) in rows]
        return tuple(dict.fromkeys(program for each in records for program in (each.program, *each.further)))

    def cut_off(self) -> JournalEntry | None:
        """The restoration that was interrupted, if there is one."""
        return next(iter(self.entries(_UNFINISHED)), None)

    def kept_folder(self, restoration: int) -> HostPath:
        """Where the originals of a restoration are kept that is written down here. Raises: UnreadableError."""
        return HostPath(os.path.join(self.folder, "kept", self._identity(), str(restoration)))

    def _identity(self) -> str:
        if not os.path.exists(self._path):
            return "none"
        with self._open_database() as connection:
            is_there = connection.execute("SELECT 1 FROM sqlite_master WHERE name = 'identity'").fetchone()
            row = connection.execute("SELECT name FROM identity").fetchone() if is_there else None
        return str(row[0]) if row is not None and str(row[0]).isalnum() else "none"

    def _entry(self, connection: sqlite3.Connection, row: tuple[int, str, str, str]) -> JournalEntry:
        number, started_at, state, text = row
        record = msgspec.convert(json.loads(text), type=RestorationRecord)
        steps = connection.execute(
            "SELECT number, state, record FROM step WHERE restoration = ? ORDER BY number", (number,)
        )
        return JournalEntry(
            number=number,
            program=record.program,
            started_at=datetime.fromisoformat(started_at),
            state=RestorationState(state),
            packages=record.packages,
            steps=tuple(JournalStep(n, StepState(s), decode_record(json.loads(r), self.site)) for n, s, r in steps),
            because=record.because,
        )

    @contextmanager
    def _open_to_change(self) -> Iterator[sqlite3.Connection]:
        with self._open_database() as connection, connection:
            if _format_of(connection) != _FORMAT:
                connection.execute(f"PRAGMA user_version = {_FORMAT}")
            connection.execute(_IDENTITY)
            if connection.execute("SELECT 1 FROM identity").fetchone() is None:
                connection.execute("INSERT INTO identity VALUES (?)", (os.urandom(8).hex(),))
            yield connection

    @contextmanager
    def _open_database(self) -> Iterator[sqlite3.Connection]:
        try:
            with closing(sqlite3.connect(self._path)) as connection:
                # EXTRA: the rollback journal's removal is flushed too, so a commit outlives a power cut.
                connection.execute("PRAGMA synchronous = EXTRA")
                self._prepare(connection)
                yield connection
        except (sqlite3.DatabaseError, msgspec.DecodeError, ValueError, ElsewhereError) as error:
            raise UnreadableError(
                what=say("execution.the-journal-of-restorations-cannot-be"),
                why=f"{printable(self._path)}: {error}",
                do=say("execution.nothing-was-changed-keep-the-file"),
            ) from error

    def _prepare(self, connection: sqlite3.Connection) -> None:
        version = _format_of(connection)
        if version == 0:
            connection.executescript(f"BEGIN; {_TABLES} PRAGMA user_version = {_FORMAT}; COMMIT;")
        elif version not in _READ_FORMATS:
            raise ValueError(say("execution.it-has-format-and-this-version", version=version, format=_FORMAT))


def _format_of(connection: sqlite3.Connection) -> int:
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def encode_record(record: msgspec.Struct) -> str:
    r"""A record as JSON; of undecodable bytes in a path the standard library makes ``\udc..`` escapes."""
    try:
        return encode_json(record).decode()
    except UnicodeEncodeError:
        return json.dumps(to_plain(record))
