"""A folder whose links can all be followed, or that has none."""

import os
import stat
from collections import deque
from collections.abc import Iterator

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement

_MOST_ENTRIES = 200_000
_MOST_NAMED = 5


class Links(Requirement, frozen=True, kw_only=True, tag="links"):
    """No link in a folder, or below it, leads nowhere; or there is none, where what serves the folder refuses links."""

    folder: Path
    none: bool = False

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        if self.none:
            return f"no links below {self.folder}: what serves it does not follow them"
        return f"all links below {self.folder} can be followed"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        if self.none:
            return "Replace each link by a copy of what it leads to."
        return "Repair each link's target, or replace the link by a copy of what it should lead to."

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.look(MachinePath(self.folder)).kind is not EntryKind.FOLDER:
            return unmet("there is no such folder")
        wrong = list(links_below(machine, MachinePath(self.folder), broken=not self.none))
        if wrong:
            more = f" and {len(wrong) - _MOST_NAMED} more" if len(wrong) > _MOST_NAMED else ""
            return unmet(", ".join(wrong[:_MOST_NAMED]) + more)
        return met("there is none" if self.none else "all can be followed")


def links_below(machine: Machine, folder: MachinePath, *, broken: bool) -> Iterator[MachinePath]:
    """The links in a folder and below it: all, or those that lead nowhere or where this account may not look.

    Raises:
        UsageError: the folder holds too much to be looked through.
        OSError: a part of it cannot be read.
    """
    waiting, seen = deque([machine.real(folder)]), 0
    while waiting:
        here = waiting.popleft()
        for name in machine.names(here):
            path, seen = machine.join(here, name), seen + 1
            if seen > _MOST_ENTRIES:
                why = f"it holds more than {_MOST_ENTRIES} entries"
                raise UsageError(f"{printable(folder)} cannot be looked through", why, "Name a part of it.")
            if _is_link(machine, here, name):
                if not broken or machine.look(path).kind in {EntryKind.ABSENT, EntryKind.BLOCKED}:
                    yield path
            elif machine.look(path).kind is EntryKind.FOLDER:
                waiting.append(path)


def _is_link(machine: Machine, folder: MachinePath, name: str) -> bool:
    return stat.S_ISLNK(os.lstat(os.path.join(machine.host_path(folder), name)).st_mode)
