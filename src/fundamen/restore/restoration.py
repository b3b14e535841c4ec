"""One restoration from its rehearsal to its proof."""

from collections.abc import Callable, Sequence
from datetime import datetime

import msgspec

from fundamen.changes.base import Tell
from fundamen.evidence.authority import Authority
from fundamen.execution.carrying_out import Progress, Stop, carry_out, find_unsettled, resume
from fundamen.execution.journal import Journal, JournalEntry
from fundamen.execution.locking import alone_on, require_finished
from fundamen.execution.restarting import Restart, Waiting, find_restarts, judge_waiting
from fundamen.execution.taking_back import undo
from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.restore.launch import Launch, launch
from fundamen.restore.rehearsal import Rehearsal
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program


class Restoration(msgspec.Struct, frozen=True):
    """What was rehearsed and, where it was carried out, what came of it."""

    rehearsal: Rehearsal
    number: int | None = None  # in the journal; None where nothing was carried out
    proof: Trace | None = None  # the program traced again afterwards
    further: tuple[Trace, ...] = ()  # likewise the further ones
    launched: Launch | None = None
    restart: tuple[Restart, ...] = ()  # what must be started anew so that it uses what was restored
    unsettled: tuple[MachinePath, ...] = ()  # what changed again by itself since it was placed
    waiting: Waiting | None = None  # an installer that waits, and what it may do now

    @property
    def remaining(self) -> int:
        """How many faults stand now; where nothing was carried out, how many stood before."""
        if self.proof is None:
            return self.rehearsal.faults_before
        return len(self.proof.faults) + sum(len(trace.faults) for trace in self.further)

    @property
    def is_well(self) -> bool:
        """Whether nothing is at fault any more, what was asked for is there, and the program, if it was run, worked."""
        plan = self.rehearsal.plan
        is_had = not (plan.is_empty and plan.unmet)
        return self.remaining == 0 and is_had and (self.launched is None or self.launched.worked)


def perform(
    machine: Machine,
    rehearsal: Rehearsal,
    journal: Journal,
    authorities: Sequence[Authority],
    now: datetime,
    progress: Progress,
    stop: Stop = lambda: False,
    settle: Callable[[], None] = lambda: None,
    waiting: str = "",
) -> Restoration:
    """Carry a rehearsal out and prove it: everything is read back and the program traced again.

    ``settle`` is called in between: what a scanner takes away again it takes away in that time. ``waiting`` names an
    installer that waits for it.

    Raises:
        UsageError: the installer cannot be looked at.
        UnfinishedError: another Fundamen is at work, an earlier restoration was cut off, or this one was stopped.
        RestorationError: it failed and was taken back.
    """
    restart = find_restarts(machine, rehearsal.work)
    judged = judge_waiting(machine, rehearsal.work, waiting) if waiting else None
    with alone_on(machine):
        require_finished(machine, journal)
        number = carry_out(machine, rehearsal.work, journal, now, progress, stop)
    settle()
    now_there = machine.afresh()
    proof = trace_program(now_there, rehearsal.plan.program, authorities)
    further = tuple(trace_program(now_there, before.program, authorities) for before, _ in rehearsal.further)
    return Restoration(rehearsal, number, proof, further, None, restart, find_unsettled(journal, number), judged)


def with_launch(restoration: Restoration, machine: Machine, arguments: tuple[str, ...], seconds: float) -> Restoration:
    """The restoration with the program run once."""
    launched = launch(machine, restoration.rehearsal.plan.program, arguments, seconds)
    return msgspec.structs.replace(restoration, launched=launched)


def go_on(
    machine: Machine, journal: Journal, progress: Progress, stop: Stop, tell: Tell = lambda _sentence: None
) -> JournalEntry:
    """Go on with a restoration that was cut off, with the machine to ourselves. Raises: as ``resume``, ``alone_on``."""
    with alone_on(machine):
        return resume(journal, progress, stop, tell)


def take_back(machine: Machine, journal: Journal, number: int | None) -> JournalEntry:
    """Undo a restoration with the machine to ourselves. Raises: as ``undo`` and ``alone_on``."""
    with alone_on(machine):
        return undo(journal, number)
