"""The contracts of ``restore``, ``undo`` and ``history`` with ``--json``."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

import msgspec

from fundamen.changes.files import Change
from fundamen.changes.packages import InstallPackages
from fundamen.execution.journal import JournalEntry
from fundamen.execution.restarting import Waiting
from fundamen.restore.rehearsal import Harm
from fundamen.restore.restoration import Restoration

if TYPE_CHECKING:  # it loads the library of cryptography
    from fundamen.restore.planned import PlannedRestoration
    from fundamen.restore.root_import import RootImport

RestoreState = Literal["not needed", "rehearsed", "restored", "no remedy", "declined"]


class StepPart(msgspec.Struct, frozen=True):
    """One file that is put in place, or set aside (then without package, size and digest)."""

    path: str
    because: str
    package: str
    source: str
    size: int
    sha256: str


class UnmetPart(msgspec.Struct, frozen=True):
    """A fault without a trusted remedy."""

    name: str
    why: str


class LaunchPart(msgspec.Struct, frozen=True):
    """How the program's run ended."""

    status: int | None
    output: str


class HarmPart(msgspec.Struct, frozen=True):
    """What another program would come to lack."""

    program: str
    name: str
    reason: str


class WaitingPart(msgspec.Struct, frozen=True):
    """What an installer that waits may do now."""

    name: str
    verdict: Literal["may go on", "must be started over", "must not be touched"]
    why: str


class InstalledPart(msgspec.Struct, frozen=True):
    """What a publisher's installer has done: files from the prefix's folder on, and what it made worse."""

    path: str
    status: int
    added: tuple[str, ...]
    changed: tuple[str, ...]
    removed: tuple[str, ...]
    values: int  # of the registry, that differ
    worse: tuple[str, ...]


class RestoreRecord(msgspec.Struct, frozen=True, kw_only=True):
    """One restoration or rehearsal, for ``restore --json``."""

    schema: Literal["fundamen.restore/1"] = "fundamen.restore/1"
    program: str
    state: RestoreState
    number: int | None
    faults_before: int
    faults_rehearsed: int
    faults: int  # that stand now
    installs: tuple[str, ...]  # what the system's package manager installs
    steps: tuple[StepPart, ...]
    unmet: tuple[UnmetPart, ...]
    launched: LaunchPart | None
    restart: tuple[str, ...] = ()  # what must be started anew so that it uses what was restored
    unsettled: tuple[str, ...] = ()  # what changed again by itself since it was placed
    harmed: tuple[HarmPart, ...] = ()  # programs that would lack something; it is not offered then
    further: tuple[str, ...] = ()  # programs that are put right as well; their faults are among those that are counted
    installed: tuple[InstalledPart, ...] = ()  # what publishers' installers have done
    waiting: WaitingPart | None = None  # an installer that waits, where one was named
    asked_because: str = ""  # the reason that was given for versions that were asked for


class EntryPart(msgspec.Struct, frozen=True):
    """One restoration of the journal."""

    number: int
    program: str
    started_at: str
    state: str
    packages: tuple[str, ...]
    paths: tuple[str, ...]


class HistoryRecord(msgspec.Struct, frozen=True):
    """All restorations, for ``history --json``."""

    restorations: tuple[EntryPart, ...]
    kept_size: int  # bytes that the originals take up
    without_journal: int = 0  # restorations whose originals lie there, and whose journal is gone
    schema: Literal["fundamen.history/1"] = "fundamen.history/1"


class ResumeRecord(msgspec.Struct, frozen=True):
    """One restoration that has come to its end, for ``resume --json``."""

    resumed: EntryPart
    schema: Literal["fundamen.resume/1"] = "fundamen.resume/1"


class UndoRecord(msgspec.Struct, frozen=True):
    """One undone restoration, for ``undo --json``."""

    undone: EntryPart
    schema: Literal["fundamen.undo/1"] = "fundamen.undo/1"


def restore_record(restoration: Restoration, state: RestoreState) -> RestoreRecord:
    """The contract's form of a restoration."""
    rehearsal = restoration.rehearsal
    launched, installs = restoration.launched, rehearsal.plan.installs
    return RestoreRecord(
        program=rehearsal.plan.program,
        state=state,
        number=restoration.number,
        faults_before=rehearsal.faults_before,
        faults_rehearsed=rehearsal.faults_after,
        faults=restoration.remaining,
        installs=tuple(f"{p.name} {p.version}" for p in installs.packages) if installs is not None else (),
        steps=(
            *(StepPart(s.path, s.because, "", "", 0, "") for s in rehearsal.plan.moved),
            *(StepPart(s.path, s.because, s.package.title, s.source.name, 0, "") for s in rehearsal.plan.folders),
            *(
                StepPart(s.path, s.because, s.package.title, s.source.name, s.size, s.sha256)
                for s in rehearsal.plan.placed
            ),
        ),
        unmet=tuple(UnmetPart(unmet.name, unmet.why) for unmet in rehearsal.plan.unmet),
        launched=None if launched is None else LaunchPart(launched.status, launched.output),
        restart=tuple(each.what for each in restoration.restart),
        waiting=_waiting_part(restoration.waiting),
        unsettled=restoration.unsettled,
        harmed=_harm_parts(rehearsal.harmed),
        further=tuple(before.program for before, _ in rehearsal.further),
        asked_because=rehearsal.because,
    )


def root_import_record(path: str, planned: "RootImport | None", state: RestoreState) -> RestoreRecord:
    """The contract's form of the import of a root certificate."""
    proof = planned.proof if planned is not None else None
    title = planned.work.titles[0] if planned is not None else ""
    after = (proof or planned.before) if planned is not None else None
    return RestoreRecord(
        program=path,
        state=state,
        number=planned.number if planned is not None else None,
        faults_before=int(planned is not None),
        faults_rehearsed=int(planned is not None and not planned.after.holds),
        faults=int(after is not None and not after.holds),
        installs=(),
        steps=tuple(
            StepPart(step.path, step.because, title, "", step.size, step.sha256)
            for step in (planned.work.steps if planned is not None else ())
            if isinstance(step, Change)
        ),
        unmet=(),
        launched=None,
    )


def plan_record(planned: "PlannedRestoration", state: RestoreState) -> RestoreRecord:
    """The contract's form of a plan from a file."""
    steps = [step for step in planned.work.steps if not isinstance(step, InstallPackages)]
    return RestoreRecord(
        program=planned.plan.program,
        state=state,
        number=planned.number,
        faults_before=sum(len(trace.faults) for trace in planned.before),
        faults_rehearsed=sum(len(trace.faults) for trace in planned.rehearsed),
        faults=planned.remaining,
        installs=tuple(str(step.path) for step in planned.work.steps if isinstance(step, InstallPackages)),
        steps=tuple(
            StepPart(s.path, s.because, "", "", *((s.size, s.sha256) if isinstance(s, Change) else (0, "")))
            for s in steps
        ),
        unmet=(),
        launched=None,
        restart=tuple(each.what for each in planned.restart),
        harmed=_harm_parts(planned.harmed),
        further=planned.plan.further,
        asked_because=planned.plan.because,
        waiting=_waiting_part(planned.waiting),
        installed=tuple(
            InstalledPart(path, o.status, o.change.added, o.change.changed, o.change.removed, len(o.values), o.worse)
            for path, o in planned.installed
        ),
    )


def _harm_parts(harmed: Sequence[Harm]) -> tuple[HarmPart, ...]:
    return tuple(HarmPart(harm.program, harm.name, harm.reason) for harm in harmed)


def _waiting_part(waiting: Waiting | None) -> WaitingPart | None:
    return WaitingPart(waiting.name, waiting.verdict, waiting.why) if waiting is not None else None


def entry_part(entry: JournalEntry) -> EntryPart:
    """The contract's form of a journal entry."""
    paths = tuple(step.record.path for step in entry.steps)
    return EntryPart(entry.number, entry.program, entry.started_at.isoformat(), entry.state, entry.packages, paths)
