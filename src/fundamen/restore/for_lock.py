"""Refresh one aged entry of a lock file; what else stands in it is not touched."""

import hashlib
from collections.abc import Callable

import msgspec

from fundamen.changes.base import Work
from fundamen.changes.files import Change
from fundamen.changes.root_stores import Keep
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.paths import MachinePath
from fundamen.restore.restoration import Prepared
from fundamen.sources.locks import CheckedPin


class CheckedEntry(msgspec.Struct, frozen=True):
    """One entry of a lock file, checked; None where it is there no more."""

    checked: CheckedPin | None

    @property
    def fault_count(self) -> int:
        """1 where an installer would refuse it."""
        return int(self.checked is None or self.checked.is_at_fault)


def prepare_lock_entry(
    machine: Machine,
    path: MachinePath,
    entry: CheckedPin,
    data: bytes,
    keep: Keep,
    check: Callable[[Machine], CheckedPin | None],
) -> Prepared[CheckedEntry]:
    """The entry as it is to be refreshed, proven by checking it again.

    Args:
        machine: whose file it is.
        path: of the lock file.
        entry: as it was checked.
        data: the whole file with the entry refreshed.
        keep: keeps bytes of ours until they are placed.
        check: checks the entry again.
    """
    digest = hashlib.sha256(data).hexdigest()
    change = Change(path=machine.real(path), because=say("restore.an-entry-has-aged"), sha256=digest, size=len(data))
    return Prepared(
        work=Work(path, (say("restore.the-entry-refreshed", name=entry.entry.name),), (change,), {digest: keep(data)}),
        before=CheckedEntry(entry),
        prove=lambda machine: CheckedEntry(check(machine)),
    )
