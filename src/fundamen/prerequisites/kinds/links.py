"""A folder whose links can all be followed."""

from collections import deque

from fundamen.machine.machine import EntryKind
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import Asked, Path, Requirement

_MOST_ENTRIES = 200_000
_MOST_NAMED = 5


class Links(Requirement, frozen=True, kw_only=True, tag="links"):
    """No link in a folder, or below it, leads nowhere or out of what this account may read."""

    folder: Path

    @property
    def needed(self) -> str:
        """As of every requirement."""
        return f"all links below {self.folder} can be followed"

    @property
    def advice(self) -> str:
        """As of every requirement."""
        return "Repair each link's target, or replace the link by a copy of what it should lead to."

    def check(self, asked: Asked) -> Answer:
        """As of every requirement."""
        machine, broken, seen = asked.machine, list[str](), 0
        if machine.look(MachinePath(self.folder)).kind is not EntryKind.FOLDER:
            return unmet("there is no such folder")
        waiting = deque([machine.real(MachinePath(self.folder))])
        met_before = set(waiting)
        while waiting:
            folder = waiting.popleft()
            for name in machine.names(folder):
                path = machine.join(folder, name)
                seen += 1
                if seen > _MOST_ENTRIES:
                    return unknown(f"it holds more than {_MOST_ENTRIES} entries")
                kind = machine.look(path).kind
                if kind in {EntryKind.ABSENT, EntryKind.BLOCKED}:
                    broken.append(path)
                elif kind is EntryKind.FOLDER and (real := machine.real(path)) not in met_before and real == path:
                    met_before.add(real)
                    waiting.append(real)
        if broken:
            more = f" and {len(broken) - _MOST_NAMED} more" if len(broken) > _MOST_NAMED else ""
            return unmet(", ".join(broken[:_MOST_NAMED]) + more)
        return met(f"{seen} entries were looked at")
