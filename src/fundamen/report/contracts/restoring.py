"""The contracts of ``restore``, ``plans show``, ``undo`` and ``history`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.changes.base import Step
from fundamen.execution.journal import JournalEntry
from fundamen.execution.restarting import Waiting
from fundamen.messages import Message, as_said
from fundamen.restore.harms import Harm
from fundamen.restore.plan import Unmet
from fundamen.restore.plan_file import PlanFile
from fundamen.restore.restoration import Found, Restoration

RestoreState = Literal["not needed", "rehearsed", "restored", "no remedy", "declined"]


class StepPart(msgspec.Struct, frozen=True):
    """One file that is put in place, or set aside (then without package, size and digest)."""

    path: str
    because: Message
    package: str
    source: str
    size: int
    sha256: str


class LaunchPart(msgspec.Struct, frozen=True):
    """How the program's run ended."""

    status: int | None
    output: str


class InstalledPart(msgspec.Struct, frozen=True):
    """The effects of a publisher's installer: files from the prefix's folder on, and changes for the worse."""

    path: str
    status: int
    added: tuple[str, ...]
    changed: tuple[str, ...]
    removed: tuple[str, ...]
    values: int  # of the registry, that differ
    worse: tuple[Message, ...]


class RestoreRecord(msgspec.Struct, frozen=True, kw_only=True):
    """One restoration or rehearsal, for ``restore --json``."""

    schema: Literal["fundamen.restore/2"] = "fundamen.restore/2"
    program: str
    state: RestoreState
    number: int | None
    faults_before: int
    faults_rehearsed: int
    faults: int  # that stand now
    installs: tuple[str, ...]  # what the system's package manager installs
    steps: tuple[StepPart, ...]
    unmet: tuple[Unmet, ...]
    launched: LaunchPart | None
    restart: tuple[Message, ...] = ()  # what must be started again so that it uses what was restored
    unsettled: tuple[str, ...] = ()  # what changed again by itself since it was placed
    harmed: tuple[Harm, ...] = ()  # programs that would lack something; it is not offered then
    further: tuple[str, ...] = ()  # programs that are repaired as well; their faults are among those that are counted
    installed: tuple[InstalledPart, ...] = ()  # what publishers' installers have done
    waiting: Waiting | None = None  # an installer that waits, where one was named
    asked_because: str = ""  # the reason that was given for versions that were asked for


class RestorationPart(msgspec.Struct, frozen=True):
    """One restoration of the journal."""

    number: int
    program: str
    started_at: str
    state: str
    packages: tuple[str, ...]
    paths: tuple[str, ...]


class HistoryRecord(msgspec.Struct, frozen=True):
    """All restorations, for ``history --json``."""

    restorations: tuple[RestorationPart, ...]
    kept_size: int  # bytes that the originals take up
    without_journal: int = 0  # restorations whose originals lie there, and whose journal is gone
    schema: Literal["fundamen.history/1"] = "fundamen.history/1"


class ResumeRecord(msgspec.Struct, frozen=True):
    """One restoration that has come to its end, for ``resume --json``."""

    resumed: RestorationPart
    schema: Literal["fundamen.resume/1"] = "fundamen.resume/1"


class UndoRecord(msgspec.Struct, frozen=True):
    """One undone restoration, for ``undo --json``."""

    undone: RestorationPart
    schema: Literal["fundamen.undo/1"] = "fundamen.undo/1"


def restore_record(restoration: Restoration[Found], state: RestoreState) -> RestoreRecord:
    """The contract's form of a restoration, whatever asked for it."""
    prepared, launched, waiting = restoration.prepared, restoration.launched, restoration.waiting
    work = prepared.work
    return RestoreRecord(
        program=work.program,
        state=state,
        number=restoration.number,
        faults_before=prepared.before.fault_count,
        faults_rehearsed=prepared.rehearsed.fault_count if prepared.rehearsed is not None else 0,
        faults=restoration.remaining,
        installs=tuple(name for step in work.steps for name in step.installs),
        steps=tuple(map(_step_part, (step for step in work.steps if not step.installs))),
        unmet=prepared.unmet,
        launched=None if launched is None else LaunchPart(launched.status, launched.output),
        restart=tuple(each.what for each in restoration.restart),
        unsettled=restoration.unsettled,
        harmed=prepared.harmed,
        further=work.further,
        installed=tuple(
            InstalledPart(
                path,
                o.status,
                o.change.added,
                o.change.changed,
                o.change.removed,
                len(o.values),
                tuple(map(as_said, o.worse)),
            )
            for path, o in restoration.installed
        ),
        waiting=waiting,
        asked_because=work.because,
    )


def nothing_needed(path: str) -> RestoreRecord:
    """The contract's form of a restoration that was not even planned."""
    return RestoreRecord(
        program=path,
        state="not needed",
        number=None,
        faults_before=0,
        faults_rehearsed=0,
        faults=0,
        installs=(),
        steps=(),
        unmet=(),
        launched=None,
    )


def _step_part(step: Step) -> StepPart:
    size, sha256, package, source = step.brought
    return StepPart(step.path, as_said(step.because), str(package), str(source), size, sha256)


def entry_part(entry: JournalEntry) -> RestorationPart:
    """The contract's form of a journal entry."""
    paths = tuple(step.record.path for step in entry.steps)
    return RestorationPart(
        entry.number, entry.program, entry.started_at.isoformat(), entry.state, entry.packages, paths
    )


class PlanRecord(msgspec.Struct, frozen=True):
    """A plan as its file has it."""

    plan: PlanFile
    schema: Literal["fundamen.plan-shown/1"] = "fundamen.plan-shown/1"


def plan_record(plan: PlanFile) -> PlanRecord:
    """The contract's form of a plan."""
    return PlanRecord(plan)
