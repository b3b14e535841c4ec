"""Owner and mode of a file or folder."""

import os
import stat
from typing import Annotated

import msgspec

from fundamen.machine.accounts import GROUPS, USERS, accounts
from fundamen.machine.machine import EntryKind
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met_if, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Path, Requirement

Mode = Annotated[str, msgspec.Meta(pattern="^0?[0-7]{3,4}$")]


class Rights(Requirement, frozen=True, kw_only=True, tag="rights"):
    """A file or folder belongs to someone, and its mode has some bits, and has not others. Source: chmod(1)."""

    path: Path
    owner: Name | None = None
    group: Name | None = None
    allows: Mode | None = None  # bits that must be set, as "0644"
    forbids: Mode | None = None  # bits that must not be, as "0022"

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        parts = [
            say("prerequisites.belongs-to", owner=self.owner) if self.owner else "",
            say("prerequisites.belongs-to-the-group", group=self.group) if self.group else "",
            say("prerequisites.allows", allows=self.allows) if self.allows else "",
            say("prerequisites.forbids", forbids=self.forbids) if self.forbids else "",
        ]
        return f"{self.path} {' and '.join(filter(None, parts)) or 'is there'}"

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.change-the-owner-or-mode-of", path=self.path)

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return say("prerequisites.no-bit-can-be-both-allowed") if _bits(self.allows) & _bits(self.forbids) else UNSAID

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        path, machine = MachinePath(self.path), asked.machine
        if machine.platform is Platform.WINDOWS:
            return unknown(say("prerequisites.rights-of-windows-are-not-known"))
        if machine.look(path).kind is EntryKind.ABSENT:
            return unmet(say("prerequisites.it-does-not-exist"))
        status = os.stat(machine.host_path(machine.real(path)))
        owner, group = _name(asked, USERS, status.st_uid), _name(asked, GROUPS, status.st_gid)
        mode = stat.S_IMODE(status.st_mode)
        is_right = (
            self.owner in {None, owner, str(status.st_uid)}
            and self.group in {None, group, str(status.st_gid)}
            and mode & _bits(self.allows) == _bits(self.allows)
            and not mode & _bits(self.forbids)
        )
        return met_if(is_right, say("prerequisites.it-belongs-to-with-mode", owner=owner, group=group, mode=mode))


def _bits(mode: str | None) -> int:
    return int(mode or "0", 8)


def _name(asked: CheckContext, listed: MachinePath, number: int) -> str:
    named = (name for name, fields in accounts(asked.machine, listed).items() if fields[2] == str(number))
    return next(named, str(number))
