"""A cache, index or lock that must not be stale."""

import os
from typing import Annotated

import msgspec

from fundamen.machine.machine import EntryKind
from fundamen.machine.open_files import find_users, process_of
from fundamen.messages import UNSAID, Message, say
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement

_HOUR = 3600
_MOST_PID = 64  # bytes of a lock that holds a number


class Freshness(Requirement, frozen=True, kw_only=True, tag="freshness"):
    """A file that was made from others is not older than these, or not older than some hours; a lock is someone's."""

    path: Path
    not_older_than: tuple[Path, ...] = ()
    hours: Annotated[float, msgspec.Meta(ge=0)] | None = None
    is_lock: bool = False  # it must be held by a process, or not be there

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        if self.is_lock:
            return say("prerequisites.the-lock-is-held-by-a", path=self.path)
        limits = [
            *self.not_older_than,
            *([say("prerequisites.hours", hours=self.hours)] if self.hours is not None else []),
        ]
        return say("prerequisites.is-not-older-than", path=self.path, limits=", ".join(limits))

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.ask-why-it-is-so-first", path=self.path)

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        given = bool(self.not_older_than) or self.hours is not None
        return UNSAID if given != self.is_lock else say("prerequisites.it-is-either-a-lock-or")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine, path = asked.machine, MachinePath(self.path)
        if machine.look(path).kind is EntryKind.ABSENT:
            return (
                met(say("prerequisites.it-is-not-there-and-so"))
                if self.is_lock
                else unmet(say("prerequisites.it-is-not-there"))
            )
        if self.is_lock:
            return self._lock(asked, path)
        made_at = os.stat(machine.host_path(path)).st_mtime
        for other in self.not_older_than:
            if os.stat(machine.host_path(MachinePath(other))).st_mtime > made_at:
                return unmet(say("prerequisites.was-changed-after-it-was-made", other=other))
        age = (asked.now.timestamp() - made_at) / _HOUR
        if self.hours is not None and age > self.hours:
            return unmet(say("prerequisites.it-is-hours-old", age=age))
        return met(say("prerequisites.it-is-hours-old", age=max(age, 0)))

    def _lock(self, asked: CheckContext, path: MachinePath) -> Answer:
        machine = asked.machine
        if not machine.is_live:
            return unmet(say("prerequisites.it-was-left-behind-does-not", title=machine.title))
        if users := find_users([machine.host_path(path)]):
            return met(say("prerequisites.process-has-it-open", pid=users[0].pid, name=users[0].name))
        number = machine.content(path, _MOST_PID).decode("ascii", "replace").strip()
        holder = process_of(number) if number.isdecimal() else None
        if holder is not None:
            return met(say("prerequisites.it-names-process-which-runs", pid=holder.pid, name=holder.name))
        return unmet(
            say("prerequisites.it-names-process-which-does-not", number=number)
            if number.isdecimal()
            else say("prerequisites.no-process-has-it-open")
        )
