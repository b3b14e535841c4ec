"""A folder whose links can all be followed, or that has none."""

import os
import stat
from collections import deque
from collections.abc import Iterator

from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, name_some, say
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
    def needed(self) -> Message:
        """Name the need in a few words."""
        if self.none:
            return say("prerequisites.no-links-below-what-serves-it", folder=self.folder)
        return say("prerequisites.all-links-below-can-be-followed", folder=self.folder)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        if self.none:
            return say("prerequisites.replace-each-link-by-a-copy")
        return say("prerequisites.repair-each-link-target-or-replace")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.look(MachinePath(self.folder)).kind is not EntryKind.FOLDER:
            return unmet(say("prerequisites.there-is-no-such-folder"))
        wrong = list(links_below(machine, MachinePath(self.folder), broken=not self.none))
        if wrong:
            return unmet(name_some(wrong, _MOST_NAMED))
        return met(say("prerequisites.there-is-none") if self.none else say("prerequisites.all-can-be-followed"))


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
                why = say("prerequisites.it-holds-more-than-entries", most_entries=_MOST_ENTRIES)
                raise UsageError(
                    say("prerequisites.cannot-be-looked-through", folder=printable(folder)),
                    why,
                    say("prerequisites.name-a-part-of-it"),
                )
            if _is_link(machine, here, name):
                if not broken or machine.look(path).kind in {EntryKind.ABSENT, EntryKind.BLOCKED}:
                    yield path
            elif machine.look(path).kind is EntryKind.FOLDER:
                waiting.append(path)


def _is_link(machine: Machine, folder: MachinePath, name: str) -> bool:
    return stat.S_ISLNK(os.lstat(os.path.join(machine.host_path(folder), name)).st_mode)
