"""A cache, index or lock that must not be stale."""

import os
from typing import Annotated

import msgspec

from fundamen.machine.machine import EntryKind
from fundamen.machine.open_files import find_users, process_of
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement

_HOUR = 3600
_MOST_PID = 64  # bytes of a lock that holds a number


class Freshness(Requirement, frozen=True, kw_only=True, tag="freshness"):
    """A file that was made from others is not older than these, or not older than some hours; a lock is somebody's."""

    path: Path
    not_older_than: tuple[Path, ...] = ()
    hours: Annotated[float, msgspec.Meta(ge=0)] | None = None
    is_lock: bool = False  # it must be held by a process, or not be there

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        if self.is_lock:
            return f"the lock {self.path} is held by a process, or is not there"
        limits = [*self.not_older_than, *([f"{self.hours:g} hours"] if self.hours is not None else [])]
        return f"{self.path} is not older than {', '.join(limits)}"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return f"Ask why it is so first; then set {self.path} aside, so that it is made again."

    def problem(self) -> str:
        """Find the fault of its fields, beyond their types."""
        given = bool(self.not_older_than) or self.hours is not None
        return "" if given != self.is_lock else "it is either a lock, or has a file or hours as its limit"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine, path = asked.machine, MachinePath(self.path)
        if machine.look(path).kind is EntryKind.ABSENT:
            return met("it is not there, and so not stale") if self.is_lock else unmet("it is not there")
        if self.is_lock:
            return self._lock(asked, path)
        made_at = os.stat(machine.host_path(path)).st_mtime
        for other in self.not_older_than:
            if os.stat(machine.host_path(MachinePath(other))).st_mtime > made_at:
                return unmet(f"{other} was changed after it was made")
        age = (asked.now.timestamp() - made_at) / _HOUR
        if self.hours is not None and age > self.hours:
            return unmet(f"it is {age:.0f} hours old")
        return met(f"it is {max(age, 0):.0f} hours old")

    def _lock(self, asked: CheckContext, path: MachinePath) -> Answer:
        machine = asked.machine
        if not machine.is_live:
            return unmet(f"it was left behind: {machine.title} does not run")
        if users := find_users([machine.host_path(path)]):
            return met(f"process {users[0].pid} ({users[0].name}) has it open")
        number = machine.content(path, _MOST_PID).decode("ascii", "replace").strip()
        holder = process_of(number) if number.isdecimal() else None
        if holder is not None:
            return met(f"it names process {holder.pid} ({holder.name}), which runs")
        return unmet(
            f"it names process {number}, which does not run" if number.isdecimal() else "no process has it open"
        )
