"""One restoration, whatever asks for it: prepared, performed, proven.

Each source of work (faults, a plan file, a cold copy, a reference, a lock file, a root certificate) prepares it: what
is to be done, what was found before, and how to look again. From there on all go the same way.
"""

from collections.abc import Callable
from datetime import datetime
from typing import Generic, Protocol, TypeVar

import msgspec

from fundamen.changes.base import Tell, Work
from fundamen.changes.installers import InstallerOutcome, outcomes_of
from fundamen.execution.carrying_out import Progress, Stop, carry_out, find_unsettled, resume
from fundamen.execution.journal import Journal, JournalEntry
from fundamen.execution.locking import alone_on, require_finished
from fundamen.execution.restarting import Restart, Waiting, find_restarts, judge_waiting
from fundamen.execution.taking_back import undo
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.paths import MachinePath
from fundamen.restore.harms import Harm
from fundamen.restore.launch import Launch, launch
from fundamen.restore.plan import Unmet
from fundamen.trace.records import Component, Trace


class Findings(Protocol):
    """Findings on a machine, by whatever proves a restoration."""

    @property
    def fault_count(self) -> int:
        """How many faults there are."""


class Traces(msgspec.Struct, frozen=True):
    """Programs, traced."""

    traces: tuple[Trace, ...]

    @property
    def faults(self) -> tuple[Component, ...]:
        """The faults of all of them."""
        return tuple(fault for trace in self.traces for fault in trace.faults)

    @property
    def fault_count(self) -> int:
        """How many faults they have."""
        return len(self.faults)


Found = TypeVar("Found", bound=Findings)


class Prepared(msgspec.Struct, Generic[Found], frozen=True, kw_only=True):
    """A prepared change of a machine, and its proof."""

    work: Work
    before: Found
    rehearsed: Found | None = None  # as it would be; None where that cannot be known beforehand
    prove: Callable[[Machine], Found]  # looks again, at the machine as it is then
    make_ready: Callable[[], object] = lambda: None  # what must succeed before anything is changed
    harmed: tuple[Harm, ...] = ()  # programs that would lack something which they have now
    unmet: tuple[Unmet, ...] = ()  # faults for which there is no trusted remedy
    lacks_remedy: bool = False  # whether something is called for, and nothing can be done

    @property
    def is_needed(self) -> bool:
        """Whether there is anything that calls for it."""
        return bool(self.work.steps) or self.lacks_remedy

    @property
    def is_offered(self) -> bool:
        """Whether it may be performed: it does something, and no program would lack anything for it."""
        return bool(self.work.steps) and not self.harmed


class Restoration(msgspec.Struct, Generic[Found], frozen=True, kw_only=True):
    """A prepared restoration and, where it was performed, its result."""

    prepared: Prepared[Found]
    number: int | None = None  # in the journal; None where nothing was performed
    proof: Found | None = None
    launched: Launch | None = None
    restart: tuple[Restart, ...] = ()  # what must be started again so that it uses what was restored
    unsettled: tuple[MachinePath, ...] = ()  # what changed again by itself since it was placed
    waiting: Waiting | None = None  # an installer that waits, and what it may do now
    installed: tuple[tuple[MachinePath, InstallerOutcome], ...] = ()  # what came of publishers' installers

    @property
    def remaining(self) -> int:
        """How many faults there are now; where nothing was performed, how many there were before."""
        return (self.prepared.before if self.proof is None else self.proof).fault_count

    @property
    def worse(self) -> tuple[str, ...]:
        """Changes for the worse by publishers' installers."""
        return tuple(each for _, outcome in self.installed for each in outcome.worse)

    @property
    def is_well(self) -> bool:
        """Whether it is done or was not needed, nothing is at fault, and the program, if it was run, worked."""
        is_done = self.number is not None or not self.prepared.is_needed
        has_worked = self.launched is None or self.launched.worked
        return is_done and not self.remaining and not self.worse and has_worked


def perform(
    machine: Machine,
    prepared: Prepared[Found],
    journal: Journal,
    now: datetime,
    progress: Progress = lambda _path: None,
    stop: Stop = lambda: False,
    *,
    settle: Callable[[], None] | None = None,
    waiting: str = "",
    tell: Tell = lambda _sentence: None,
) -> Restoration[Found]:
    """Perform what was prepared and prove it: everything is read back, and looked at again.

    Args:
        machine: as it is.
        prepared: what is to be done.
        journal: of the machine.
        now: this moment.
        progress: called with each step.
        stop: whether someone has asked that no further step be begun.
        settle: waits until a scanner would have taken away what was placed; then it is looked whether it stands.
        waiting: names an installer that waits for it.
        tell: given sentences for people while a step is made.

    Raises:
        UsageError: the installer cannot be looked at.
        UnfinishedError: another Fundamen is at work, an earlier restoration was interrupted, or this one was stopped.
        RestorationError: it failed and was undone.
        FundamenError: what must succeed before did not; nothing was begun.
    """
    restart = find_restarts(machine, prepared.work)
    judged = judge_waiting(machine, prepared.work, waiting) if waiting else None
    with alone_on(machine):
        require_finished(machine, journal)
        prepared.make_ready()
        number = carry_out(machine, prepared.work, journal, now, progress, stop, tell)
    if settle is not None:
        settle()
    entry = journal.find(number)
    installed = outcomes_of((step.record for step in entry.steps), journal.site) if entry is not None else ()
    restart += tuple(
        Restart(say("restore.restart", title=machine.title), o.meaning) for _, o in installed if o.needs_restart
    )
    return Restoration(
        prepared=prepared,
        number=number,
        proof=prepared.prove(machine.afresh()),
        restart=restart,
        unsettled=find_unsettled(journal, number) if settle is not None else (),
        waiting=judged,
        installed=installed,
    )


def with_launch(
    restoration: Restoration[Found], machine: Machine, arguments: tuple[str, ...], seconds: float
) -> Restoration[Found]:
    """The restoration with the program run once."""
    launched = launch(machine, restoration.prepared.work.program, arguments, seconds)
    return msgspec.structs.replace(restoration, launched=launched)


def go_on(
    machine: Machine, journal: Journal, progress: Progress, stop: Stop, tell: Tell = lambda _sentence: None
) -> JournalEntry:
    """Resume a restoration that was interrupted, with the machine to ourselves. Raises: as ``resume``, ``alone_on``."""
    with alone_on(machine):
        return resume(journal, progress, stop, tell)


def take_back(machine: Machine, journal: Journal, number: int | None) -> JournalEntry:
    """Undo a restoration with the machine to ourselves. Raises: as ``undo`` and ``alone_on``."""
    with alone_on(machine):
        return undo(journal, number)
