"""The record of cases: one SQLite file in full synchronous mode (docs/formats/cases.md).

Guarantees: what was recorded is on the disk when the call returns; a case is only ever added to, save that it is closed
or opened again, and that what should not have been recorded is removed on request.
"""

import os
import sqlite3
import uuid
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from datetime import datetime
from enum import StrEnum

import msgspec

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import remove_own, write_whole

FORMAT = 1
_FILE = "cases.sqlite"
_CURRENT = "current"  # the file that names the case which commands are recorded in
_LONGEST = 20_000  # characters of one text

_INSERT = 'INSERT INTO "case" VALUES (?, (SELECT coalesce(max(number), 0) + 1 FROM "case"),'
_TABLES = """
CREATE TABLE "case" (
    id TEXT PRIMARY KEY,        -- a UUID: the same in every folder that it is merged into
    number INTEGER UNIQUE NOT NULL,  -- in this folder only
    title TEXT NOT NULL,
    opened_at TEXT NOT NULL,    -- ISO 8601, UTC
    machine TEXT NOT NULL,      -- as people call it
    closed_at TEXT,             -- NULL while it is open
    helped TEXT                 -- what helped; NULL where nothing did, or it is open
) STRICT;
CREATE TABLE entry (
    id TEXT PRIMARY KEY,        -- a UUID
    "case" TEXT NOT NULL REFERENCES "case" ON DELETE CASCADE,
    at TEXT NOT NULL,
    kind TEXT NOT NULL,
    text TEXT NOT NULL,
    facts TEXT NOT NULL         -- JSON: Facts
) STRICT;
"""


class EntryType(StrEnum):
    """Kinds of entries of a case."""

    NOTE = "note"
    COMMAND = "command"  # one of ours that was run, with what it answered
    TRIED = "tried"  # a remedy, and what came of it


class RemedyOutcome(StrEnum):
    """Results of a remedy."""

    HELPED = "helped"
    NOTHING = "changed nothing"
    WORSE = "made it worse"


class FaultFact(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """A fault that a trace found, as a request must name it."""

    name: str
    verdict: str
    reason: str
    architecture: str = ""
    versions: str = ""  # that serve (PEP 440)
    package: str = ""  # of the operating system's archive that would bring it
    place: str = ""  # where it is, or should be


class CaseFacts(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """Facts of an entry besides its text; unknown ones are left out."""

    status: int | None = None  # of a command
    answer: str = ""  # what it said first
    about: str = ""  # what the symptom is about: "missing", "untrusted" ... as the knowledge has it
    says: str = ""  # the line that decides
    means: str = ""
    program: str = ""
    component: str = ""
    path: str = ""
    host: str = ""
    target: str = ""  # of a build, that failed
    log: str = ""  # the text that was read, if it is a file
    faults: tuple[FaultFact, ...] = ()  # that a trace found
    is_sound: bool = False  # a trace found nothing at fault
    remedy: str = ""  # the id of a remedy of the ladder
    outcome: RemedyOutcome | None = msgspec.field(default=None, name="came")  # the format keeps its first name


class CaseEntry(msgspec.Struct, frozen=True):
    """One thing that was noted, run or tried."""

    id: str
    at: datetime
    kind: EntryType
    text: str
    facts: CaseFacts


class Case(msgspec.Struct, frozen=True):
    """One case."""

    id: str
    number: int
    title: str
    opened_at: datetime
    machine: str
    closed_at: datetime | None
    helped: str | None
    entries: tuple[CaseEntry, ...]

    @property
    def is_open(self) -> bool:
        """Whether it is still worked on."""
        return self.closed_at is None

    @property
    def tried(self) -> dict[str, RemedyOutcome]:
        """The latest result of each remedy of the ladder that was tried."""
        return {entry.facts.remedy: entry.facts.outcome for entry in self.entries if entry.facts.outcome is not None}


class CaseStore:
    """The cases of one folder."""

    def __init__(self, folder: HostPath) -> None:
        """Name the folder; it is made when the first case is opened, not by a look."""
        self.folder = folder
        self._path = os.path.join(folder, _FILE)

    def open_case(self, title: str, machine: str, now: datetime) -> Case:
        """Open a case, and make it the one that commands are recorded in.

        Raises:
            UsageError: it has no title.
        """
        if not title.strip():
            raise UsageError(
                say("cases.the-case-cannot-be-opened"),
                say("cases.it-has-no-title"),
                say("cases.say-in-one-line-what-is"),
            )
        made = str(uuid.uuid4())
        with self._open_to_change() as connection:
            connection.execute(
                f"{_INSERT} ?, ?, ?, NULL, NULL)",
                (made, _bound_text(title), now.isoformat(), machine),
            )
        self._set_current(made)
        return self._by_id(made)

    def add(self, case: Case, kind: EntryType, text: str, facts: CaseFacts, now: datetime) -> CaseEntry:
        """Record one thing in a case."""
        entry = CaseEntry(str(uuid.uuid4()), now, kind, _bound_text(text), facts)
        with self._open_to_change() as connection:
            connection.execute(
                "INSERT INTO entry VALUES (?, ?, ?, ?, ?, ?)",
                (entry.id, case.id, now.isoformat(), kind, entry.text, encode_json(facts).decode()),
            )
        return entry

    def close(self, case: Case, helped: str | None, now: datetime) -> Case:
        """Close a case with what helped, or with None where nothing did."""
        with self._open_to_change() as connection:
            connection.execute(
                'UPDATE "case" SET closed_at = ?, helped = ? WHERE id = ?', (now.isoformat(), helped, case.id)
            )
        if self._current_id() == case.id:
            self._set_current(None)
        return self._by_id(case.id)

    def take_up(self, case: Case) -> Case:
        """Make a case the one that commands are recorded in; open it again, if it was closed."""
        if not case.is_open:
            with self._open_to_change() as connection:
                connection.execute('UPDATE "case" SET closed_at = NULL, helped = NULL WHERE id = ?', (case.id,))
        self._set_current(case.id)
        return self._by_id(case.id)

    def put_down(self) -> None:
        """Record commands in no case any more."""
        self._set_current(None)

    def forget(self, case: Case, entry: int | None = None) -> None:
        """Remove a case, or one entry of it by its number from 1, for good.

        Raises:
            UsageError: it has no such entry.
        """
        if entry is not None and not 0 < entry <= len(case.entries):
            raise UsageError(
                what=say("cases.entry-of-case-cannot-be-removed", entry=entry, number=case.number),
                why=say("cases.it-has-entries", count=len(case.entries)),
                do=say("cases.see-their-numbers-fundamen-case-show", number=case.number),
            )
        with self._open_to_change() as connection:
            if entry is None:
                connection.execute('DELETE FROM "case" WHERE id = ?', (case.id,))
            else:
                connection.execute("DELETE FROM entry WHERE id = ?", (case.entries[entry - 1].id,))
        with closing(self._connect()) as connection:
            connection.execute("VACUUM")  # what was removed shall not stand in the file's free pages
        if entry is None and self._current_id() == case.id:
            self._set_current(None)

    def merge(self, folder: HostPath) -> tuple[int, int]:
        """Take in the cases of another folder, which stays as it is; give how many cases and entries are new.

        Raises:
            UnreadableError: there are none, or they cannot be read.
        """
        other = CaseStore(folder)
        if not os.path.exists(other._path):
            raise UnreadableError(
                what=say("cases.the-cases-in-cannot-be-merged", folder=printable(folder)),
                why=say("cases.there-is-no", file=_FILE),
                do=say("cases.name-the-folder-cases-of-another"),
            )
        cases = other.cases()
        count_cases = count_entries = 0
        with self._open_to_change() as connection:
            for case in cases:
                known = connection.execute('SELECT closed_at FROM "case" WHERE id = ?', (case.id,)).fetchone()
                if known is None:
                    count_cases += 1
                    row = (case.id, case.title, case.opened_at.isoformat(), case.machine, _iso(case.closed_at))
                    connection.execute(
                        f"{_INSERT} ?, ?, ?, ?, ?)",
                        (*row, case.helped),
                    )
                elif known[0] is None and case.closed_at is not None:
                    connection.execute(
                        'UPDATE "case" SET closed_at = ?, helped = ? WHERE id = ?',
                        (_iso(case.closed_at), case.helped, case.id),
                    )
                for entry in case.entries:
                    added = connection.execute(
                        "INSERT OR IGNORE INTO entry VALUES (?, ?, ?, ?, ?, ?)",
                        (entry.id, case.id, entry.at.isoformat(), entry.kind, entry.text,
                         encode_json(entry.facts).decode()),
                    )  # fmt: skip
                    count_entries += added.rowcount
        return count_cases, count_entries

    def cases(self) -> tuple[Case, ...]:
        """All cases, the newest first."""
        with self._open_to_read() as connection:
            if connection is None:
                return ()
            entries: dict[str, list[CaseEntry]] = {}
            for row in connection.execute('SELECT "case", id, at, kind, text, facts FROM entry ORDER BY at, rowid'):
                entries.setdefault(row[0], []).append(self._entry(row[1:]))
            return tuple(
                Case(row[0], row[1], row[2], datetime.fromisoformat(row[3]), row[4], _moment(row[5]), row[6],
                     tuple(entries.get(row[0], ())))
                for row in connection.execute(
                    'SELECT id, number, title, opened_at, machine, closed_at, helped FROM "case" ORDER BY number DESC'
                )
            )  # fmt: skip

    def case(self, number: int) -> Case:
        """A case by its number. Raises: UsageError: there is none."""
        for case in self.cases():
            if case.number == number:
                return case
        raise UsageError(
            say("cases.there-is-no-case", number=number),
            say("cases.no-case-has-this-number"),
            say("cases.see-fundamen-case-list"),
        )

    def current(self) -> Case | None:
        """The case that commands are recorded in; None where there is none."""
        current = self._current_id()
        return next((case for case in self.cases() if case.id == current), None) if current else None

    def _by_id(self, case_id: str) -> Case:
        return next(case for case in self.cases() if case.id == case_id)

    def _current_id(self) -> str:
        try:
            with open(os.path.join(self.folder, _CURRENT), encoding="ascii", errors="replace") as file:
                return file.read(100).strip()
        except FileNotFoundError:
            return ""

    def _set_current(self, case_id: str | None) -> None:
        path = os.path.join(self.folder, _CURRENT)
        if case_id is None:
            remove_own(path)
            return
        write_whole(path, case_id.encode("ascii"))

    def _entry(self, row: Sequence[str]) -> CaseEntry:
        return CaseEntry(
            row[0],
            datetime.fromisoformat(row[1]),
            EntryType(row[2]),
            row[3],
            msgspec.json.decode(row[4], type=CaseFacts),
        )

    @contextmanager
    def _open_to_read(self) -> Iterator[sqlite3.Connection | None]:
        if not os.path.exists(self._path):
            yield None
            return
        with self._translate_errors(), closing(self._connect()) as connection:
            yield connection

    @contextmanager
    def _open_to_change(self) -> Iterator[sqlite3.Connection]:
        os.makedirs(self.folder, mode=0o700, exist_ok=True)
        with self._translate_errors(), closing(self._connect()) as connection, connection:
            yield connection

    def _connect(self) -> sqlite3.Connection:
        is_new = not os.path.exists(self._path)
        connection = sqlite3.connect(self._path, timeout=10)
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute("PRAGMA secure_delete = ON")
        [found] = connection.execute("PRAGMA user_version").fetchone()
        if found == 0 and (is_new or not connection.execute("SELECT 1 FROM sqlite_master").fetchone()):
            with connection:
                connection.executescript(f"BEGIN; {_TABLES} PRAGMA user_version = {FORMAT}; COMMIT;")
            os.chmod(self._path, 0o600)
        elif found != FORMAT:
            connection.close()
            raise UnreadableError(
                what=say("cases.the-cases-in-cannot-be-used", folder=printable(self.folder)),
                why=say("cases.they-are-of-format-and-this", found=found, format=FORMAT),
                do=say("cases.use-the-fundamen-that-has-written"),
            )
        return connection

    @contextmanager
    def _translate_errors(self) -> Iterator[None]:
        try:
            yield
        except (sqlite3.Error, msgspec.DecodeError, ValueError) as error:
            raise UnreadableError(
                what=say("cases.the-cases-in-cannot-be-used", folder=printable(self.folder)),
                why=say("cases.says", file=_FILE, error=error),
                do=say("cases.set-that-file-aside-and-bring"),
            ) from error


def _bound_text(text: str) -> str:
    return text if len(text) <= _LONGEST else say("cases.shortened", text=text[:_LONGEST])


def _iso(moment: datetime | None) -> str | None:
    return moment.isoformat() if moment is not None else None


def _moment(text: str | None) -> datetime | None:
    return datetime.fromisoformat(text) if text is not None else None
