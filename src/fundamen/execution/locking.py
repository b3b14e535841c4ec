"""Keep a machine to ourselves while it is changed, and notice what an earlier run left unfinished."""

import contextlib
import os
import time
from collections.abc import Iterator

from fundamen.execution.journal import Journal, RestorationState, StepState
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnfinishedError, UsageError

_TRIES, _PAUSE = 20, 0.05  # seconds between two tries


@contextlib.contextmanager
def alone_on(machine: Machine) -> Iterator[None]:
    """Keep every other Fundamen of this host from changing the machine meanwhile.

    Raises:
        UnfinishedError: another one is at work, or an earlier restoration was cut off.
        UsageError: this host has no locks.
    """
    try:
        import fcntl  # noqa: PLC0415 - needed only for a change
    except ImportError as error:  # Windows has no such locks
        raise UsageError(
            what=f"{machine.title} cannot be changed from here",
            why="Fundamen changes machines from a Linux host only",
            do="Examine it here; restore it with its disk mounted on a Linux host.",
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
                        what=f"{machine.title} cannot be changed now",
                        why="another Fundamen is changing it at this moment",
                        do="Wait until it has ended, then try again.",
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
    """Make sure that no earlier restoration of the machine was cut off.

    Raises:
        UnfinishedError: one was.
    """
    entry = journal.cut_off()
    if entry is not None:
        count = sum(step.state is not StepState.KEPT for step in entry.steps)
        raise UnfinishedError(
            what=f"Restoration {entry.number} of {machine.title} is not finished",
            why=f"it was interrupted while {entry.state}, after {count} of {len(entry.steps)} steps were written down;"
            " each file is either old or new, and whole",
            do=f"Resume it: fundamen resume; or undo it: fundamen undo {entry.number}"
            if entry.state is RestorationState.UNDER_WAY
            else f"Take it back to the end: fundamen undo {entry.number}",
        )
