"""Keep a machine to ourselves while it is changed, and notice what an earlier run left unfinished."""

import contextlib
import os
import time
from collections.abc import Iterator

from fundamen.execution.journal import Journal, RestorationState, StepState
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.errors import UnfinishedError, UsageError

_TRIES, _PAUSE = 20, 0.05  # seconds between two tries


@contextlib.contextmanager
def alone_on(machine: Machine) -> Iterator[None]:
    """Keep every other Fundamen of this host from changing the machine meanwhile.

    Raises:
        UnfinishedError: another one is at work, or an earlier restoration was interrupted.
        UsageError: this host has no locks.
    """
    try:
        import fcntl  # noqa: PLC0415 - needed only for a change
    except ImportError as error:  # Windows has no such locks
        raise UsageError(
            what=say("execution.cannot-be-changed-from-here", title=machine.title),
            why=say("execution.fundamen-changes-machines-from-a-linux"),
            do=say("execution.examine-it-here-restore-it-with"),
        ) from error
    handle = os.open(machine.root, os.O_RDONLY)
    try:
        for left in reversed(range(_TRIES)):
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError as error:
                if not left:
                    raise UnfinishedError(
                        what=say("execution.cannot-be-changed-now", title=machine.title),
                        why=say("execution.another-fundamen-is-changing-it-at"),
                        do=say("execution.wait-until-it-has-ended-then"),
                    ) from error
            time.sleep(_PAUSE)  # one that only looks whether it could begin holds the lock for a moment
        yield
    finally:
        os.close(handle)


def require_ready(machine: Machine, journal: Journal) -> None:
    """Make sure that a restoration could begin now. Raises: as ``alone_on`` and ``require_finished``."""
    with alone_on(machine):
        require_finished(machine, journal)


def require_finished(machine: Machine, journal: Journal) -> None:
    """Make sure that no earlier restoration of the machine was interrupted.

    Raises:
        UnfinishedError: one was.
    """
    entry = journal.cut_off()
    if entry is not None:
        count = sum(step.state is not StepState.KEPT for step in entry.steps)
        raise UnfinishedError(
            what=say("execution.restoration-of-is-not-finished", number=entry.number, title=machine.title),
            why=say(
                "execution.it-was-interrupted-while-after-of",
                state=entry.state,
                count=count,
                other_count=len(entry.steps),
            ),
            do=say("execution.resume-it-fundamen-resume-or-undo", number=entry.number)
            if entry.state is RestorationState.UNDER_WAY
            else say("execution.take-it-back-to-the-end", number=entry.number),
        )
