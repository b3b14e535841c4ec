"""Trace, explain, survey and repair from Python, as the commands do.

A session has a state folder and a clock. Its methods take plain strings for paths and machines, give frozen results
with ``to_json``, and raise FundamenError. Nothing is changed but by ``perform`` and ``undo``.
"""

import io
import os
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from functools import cache

import msgspec

from fundamen.api.authorities import authorities_for
from fundamen.api.state_folder import own_folder, state_folder
from fundamen.changes.form import Means
from fundamen.clues.behind import Behind, look_behind
from fundamen.clues.reading import Reading, read_text
from fundamen.clues.scanning import Scanner
from fundamen.evidence.authority import Authority
from fundamen.evidence.publisher import PublisherAuthority
from fundamen.execution.home import folder_of, journal_of, kept_bytes
from fundamen.execution.journal import JournalEntry
from fundamen.execution.locking import require_ready
from fundamen.knowledge.entries import load_knowledge
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.messages import Message, say
from fundamen.model.errors import UsageError
from fundamen.model.package import PackageFile
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import write_whole
from fundamen.report.contracts.line import json_line
from fundamen.report.contracts.reading import clues_record
from fundamen.report.contracts.restoring import RestoreState, UndoRecord, entry_part, restore_record
from fundamen.report.contracts.surveying import survey_record
from fundamen.report.contracts.tracing import trace_record
from fundamen.report.examining.clues_text import steps
from fundamen.report.examining.trace_text import next_step
from fundamen.restore.plan_file import plan_bytes, read_plan
from fundamen.restore.planned import plan_of, prepare_plan
from fundamen.restore.rehearsal import Rehearsal, Scope, rehearse
from fundamen.restore.restoration import Prepared, Restoration, Traces, perform, take_back
from fundamen.sources.catalogue import Source
from fundamen.sources.os_archive import NewPackages, OsArchive
from fundamen.sources.refreshing import proven_catalogues
from fundamen.sources.store import SourceStore
from fundamen.survey.remembered import Digests
from fundamen.survey.survey import Depth, Survey, SurveyMemory, survey_machine
from fundamen.survey.walking import usual_folders
from fundamen.trace.lost import find_program_or_lost
from fundamen.trace.records import Component, Trace
from fundamen.trace.trace import trace_program

Where = Machine | str | os.PathLike[str] | None  # an opened machine, its folder, or None for this host


class TraceResult(msgspec.Struct, frozen=True):
    """The trace of a program, and the next step."""

    program: str  # as it was asked for
    trace: Trace
    next_step: Message

    @property
    def faults(self) -> tuple[Component, ...]:
        """The faults, in the order in which the loader meets them."""
        return self.trace.faults

    def to_json(self) -> str:
        """The record of docs/schemas/trace.json, in one line."""
        return json_line(trace_record(self.program, self.trace, self.next_step))


class SurveyResult(msgspec.Struct, frozen=True):
    """The survey of a machine."""

    machine: str
    survey: Survey

    @property
    def fault_count(self) -> int:
        """How many faults it has."""
        return self.survey.faults

    def to_json(self) -> str:
        """The record of docs/schemas/survey.json, in one line."""
        return json_line(survey_record(self.machine, self.survey, ()))


class CluesResult(msgspec.Struct, frozen=True):
    """The reading of a text, and its background on the machine."""

    reading: Reading
    background: Behind | None
    next_steps: tuple[Message, ...]

    def to_json(self) -> str:
        """The record of docs/schemas/clues.json, in one line."""
        return json_line(clues_record(self.reading, self.background, self.next_steps))


class RehearsalResult(msgspec.Struct, frozen=True):
    """A rehearsed repair: what would be done, and how the programs would stand then."""

    machine: Machine
    prepared: Prepared[Traces]
    plan: bytes = b""  # as a plan file; empty where there is nothing to do, or it came from one

    @property
    def is_offered(self) -> bool:
        """Whether there is something to do, and no other program would be broken by it."""
        return self.prepared.is_offered

    @property
    def faults_after(self) -> int:
        """How many faults the programs would have then."""
        after = self.prepared.rehearsed
        return (after if after is not None else self.prepared.before).fault_count

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the plan to a new file. Raises: UsageError: there is nothing to do. OSError."""
        if not self.plan:
            raise UsageError(
                say("api.no-plan-is-written"),
                say("api.there-is-nothing-to-do"),
                say("api.trace-the-program-to-see-why"),
            )
        write_whole(os.path.abspath(path), self.plan)

    def to_json(self) -> str:
        """The record of docs/schemas/restore.json, in one line."""
        state: RestoreState = "rehearsed" if self.is_offered else "no remedy"
        if not self.prepared.is_needed:
            state = "not needed"
        return json_line(restore_record(Restoration(prepared=self.prepared), state))


class RepairResult(msgspec.Struct, frozen=True):
    """A repair that was performed and proven."""

    restoration: Restoration[Traces]

    @property
    def number(self) -> int | None:
        """Its number in the history, by which it can be undone."""
        return self.restoration.number

    @property
    def is_well(self) -> bool:
        """Whether the programs have no fault any more."""
        return self.restoration.is_well

    def to_json(self) -> str:
        """The record of docs/schemas/restore.json, in one line."""
        return json_line(restore_record(self.restoration, "restored"))


class UndoResult(msgspec.Struct, frozen=True):
    """A restoration that was undone."""

    entry: JournalEntry

    @property
    def number(self) -> int:
        """Its number in the history."""
        return self.entry.number

    def to_json(self) -> str:
        """The record of docs/schemas/undo.json, in one line."""
        return json_line(UndoRecord(entry_part(self.entry)))


class _Silent:
    """A listener of a survey that shows nothing."""

    def begin(self, what: str, count: int) -> None:
        """A part begins."""

    def more(self, count: int) -> None:
        """More of it is done."""


class Session:
    """Examine and repair machines; all state is kept in one folder."""

    def __init__(
        self,
        home: str | os.PathLike[str] | None = None,
        *,
        clock: Callable[[], datetime] = lambda: datetime.now(UTC),
        note: Callable[[str], None] = lambda _text: None,
    ) -> None:
        """Begin a session.

        Args:
            home: the folder of Fundamen's own state: trusted sources, journals, kept originals. By default that of
                the command line.
            clock: gives this moment, UTC.
            note: is given sentences on what was left out, such as a source that has expired.

        Raises:
            UsageError: another account could write to the folder.
        """
        self.home = own_folder(os.fspath(home)) if home is not None else state_folder()
        self._clock = clock
        self._note = note

    def machine(
        self,
        root: str | os.PathLike[str] | None = None,
        *,
        drives: Mapping[str, str] | None = None,
        environment: Mapping[str, str] | None = None,
    ) -> Machine:
        """Open a machine: this host, or a mounted root, volume, prefix or capture.

        Args:
            root: its folder or file; None for this host.
            drives: folders of further drives of a Windows volume, by letter.
            environment: variables that a loader looks at; by default those of this process for this host, and none
                for another machine.

        Raises:
            UnreadableError: there is no machine in the folder.
        """
        if environment is None:
            environment = dict(os.environ) if root is None else {}
        place = None if root is None else os.fspath(root)
        return open_machine(place, drives=dict(drives or {}), environment=environment, current=os.getcwd())

    def trace(self, program: str, machine: Where = None, *, proof: bool = True) -> TraceResult:
        """Trace a program or library: everything that it needs, and what is wrong with it.

        Args:
            program: its path as the machine spells it, or a name on PATH.
            machine: which.
            proof: whether the files are compared with what their packages and the trusted sources record.

        Raises:
            FundamenError: the program or the machine cannot be read.
        """
        examined = self._open_machine(machine)
        path = find_program_or_lost(examined, program)
        trace = trace_program(examined, path, self._authorities(examined) if proof else ())
        return TraceResult(program, trace, next_step(trace, examined))

    def survey(self, machine: Where = None, *, folders: Sequence[str] = (), depth: str = "needs") -> SurveyResult:
        """Check every program of a machine.

        Args:
            machine: which.
            folders: where programs are looked for; by default where the platform keeps them.
            depth: ``needs``, ``used`` or ``all``: the last compares every installed file.

        Raises:
            FundamenError: the machine cannot be read.
            ValueError: there is no such depth.
        """
        examined = self._open_machine(machine)
        chosen = tuple(examined.absolute_path(folder) for folder in folders) or usual_folders(examined)
        with Digests(folder_of(examined, self.home)) as digests:
            memory = SurveyMemory(digests.all() if depth == Depth.ALL else {}, digests.remember)
            authorities = cache(lambda: self._authorities(examined))
            survey = survey_machine(examined, chosen, Depth(depth), authorities, memory, self._clock(), _Silent())
        return SurveyResult(examined.title, survey)

    def clues(self, text: str | bytes, machine: Where = None, *, look: bool = True) -> CluesResult:
        """Explain an error message or a log: the first cause, its names, and its background on the machine.

        Args:
            text: the message or the whole log.
            machine: where its background is looked for.
            look: whether it is looked for at all.

        Raises:
            FundamenError: the machine cannot be read.
        """
        data = text.encode("utf-8", "surrogateescape") if isinstance(text, str) else text
        known = load_knowledge()
        reading = read_text(known, Scanner(known), io.BytesIO(data), "message")
        examined = self._open_machine(machine)
        background = None
        if look and reading.decisive is not None:
            publishers = cache(lambda: PublisherAuthority(self._clock()))
            background = look_behind(examined, reading, self._authorities(examined), publishers)
        return CluesResult(reading, background, tuple(steps(reading, background, examined)))

    def rehearse(
        self, *programs: str, machine: Where = None, install: Sequence[str] = (), archive: bool = True
    ) -> RehearsalResult:
        """Plan the repair of some programs, and trace them as they would be then; nothing is changed.

        Args:
            programs: paths as the machine spells them, or names on PATH.
            machine: which.
            install: packages that the system's package manager is to install too.
            archive: whether the operating system's own archive is asked.

        Raises:
            UsageError: no program was named.
            FundamenError: a program, the machine or a source cannot be read, or a source cannot prove itself.
        """
        if not programs:
            raise UsageError(
                say("api.nothing-is-rehearsed"), say("api.no-program-was-named"), say("api.name-the-programs-to-repair")
            )
        examined, now = self._open_machine(machine), self._clock()
        first, *more = dict.fromkeys(find_program_or_lost(examined, program) for program in programs)
        system = OsArchive(examined, self.home, now, self._note) if archive and OsArchive.serves(examined) else None
        new = system.new_packages(install) if system is not None and install else None
        authorities = self._authorities(examined)
        earlier = journal_of(examined, self.home).programs()
        others = [each for each in dict.fromkeys(earlier) if each not in {first, *more}]
        rehearsal: Rehearsal = rehearse(
            examined,
            first,
            proven_catalogues(SourceStore(self.home), self._note, now),
            authorities,
            self._fetch,
            [system] if system is not None else [],
            new,
            Scope(more, others, keep=SourceStore(self.home).keep),
        )
        plan = plan_of(examined, rehearsal, now)
        return RehearsalResult(examined, rehearsal.prepare(authorities), plan_bytes(plan) if plan is not None else b"")

    def plan(self, file: str | os.PathLike[str], machine: Where = None) -> RehearsalResult:
        """Rehearse a plan from a file (docs/formats/plan.md) on a machine; nothing is changed.

        Raises:
            OSError: the file cannot be read.
            FundamenError: the plan is damaged or does not fit the machine.
        """
        with open(file, "rb") as opened:
            plan = read_plan(opened.read(), os.fspath(file))
        examined, now = self._open_machine(machine), self._clock()

        def bring(names: Sequence[str]) -> NewPackages:
            return OsArchive(examined, self.home, now, self._note).new_packages(names)

        means = Means(
            catalogues=proven_catalogues(SourceStore(self.home), self._note, now),
            fetch=self._fetch,
            keep=lambda data: kept_bytes(self.home, data),
            bring=bring,
            now_seconds=int(now.timestamp()),
            environment=os.environ,
        )
        others = journal_of(examined, self.home).programs()
        return RehearsalResult(examined, prepare_plan(examined, plan, means, self._authorities(examined), others))

    def perform(self, rehearsal: RehearsalResult) -> RepairResult:
        """Perform what was rehearsed, and prove it. Every replaced file is kept; ``undo`` brings all of it back.

        Raises:
            UsageError: there is nothing to do, or another program would be broken by it.
            UnfinishedError: an earlier restoration is unfinished, or another Fundamen is at work.
            RestorationError: it failed, and was undone.
        """
        if not rehearsal.is_offered:
            raise UsageError(
                what=say("api.nothing-is-repaired"),
                why=say("api.there-is-nothing-to-do-or"),
                do=say("api.see-the-rehearsal-faults-and-what"),
            )
        journal = journal_of(rehearsal.machine, self.home)
        require_ready(rehearsal.machine, journal)
        return RepairResult(perform(rehearsal.machine, rehearsal.prepared, journal, self._clock()))

    def undo(self, number: int | None = None, machine: Where = None) -> UndoResult:
        """Undo a restoration, or the latest: every file becomes what it was.

        Raises:
            UsageError: there is none to undo.
            RestorationError: a restored file has changed since; nothing was undone.
        """
        examined = self._open_machine(machine)
        return UndoResult(take_back(examined, journal_of(examined, self.home), number))

    def _open_machine(self, machine: Where) -> Machine:
        return machine if isinstance(machine, Machine) else self.machine(machine)

    def _authorities(self, machine: Machine) -> list[Authority]:
        return authorities_for(
            self.home, machine.platform, self._clock(), self._note, lambda error: self._note(str(error))
        )

    def _fetch(self, source: Source, file: PackageFile) -> HostPath:
        return SourceStore(self.home).fetch(source, file, lambda _count: None)
