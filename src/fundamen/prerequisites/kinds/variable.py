"""An environment variable."""

import os
from typing import Literal

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, RequirementStanding, met, unknown, unmet
from fundamen.prerequisites.comparison import Compared
from fundamen.prerequisites.kinds.disk_space import free_of
from fundamen.prerequisites.requirement import CheckContext, Name


class VariableRequirement(Compared, frozen=True, kw_only=True, tag="environment variable"):
    """A variable is set, perhaps to a folder that is there, may be written to, and has room."""

    name: Name
    names_a: Literal["folder", "file"] | None = None  # that must be there
    writable: bool = False
    free: int | str | None = None  # bytes, or as "2G", in the folder

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        names = say("prerequisites.and-names-a-that-is-there", names_a=self.names_a) if self.names_a else UNSAID
        return say(
            "prerequisites.the-variable",
            name=self.name,
            words=self.in_words.replace("is there", "is set"),
            names=names,
        )

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.set-then-restart-the-program-or", name=self.name)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        value = machine.environment.get(self.name)
        if value is None and not machine.is_live:
            return unknown(say("prerequisites.the-environment-of-is-not-known", title=machine.title, name=self.name))
        answer = self.judge(msgspec.UNSET if value is None else value)
        if (
            answer.standing is not RequirementStanding.MET
            or value is None
            or not (self.names_a or self.writable or self.free)
        ):
            return answer
        if not machine.paths.isabs(value):
            return unmet(say("prerequisites.which-is-no-path-from-the", found=answer.found))
        return self._place(machine, MachinePath(value), answer.found)

    def _place(self, machine: Machine, path: MachinePath, found: Message) -> Answer:
        """How the place stands that the variable names."""
        entry = machine.look(path)
        if entry.kind is EntryKind.BLOCKED:
            return unknown(say("prerequisites.which-cannot-be-looked-at", found=found, why=entry.why))
        if entry.kind.value != (self.names_a or "folder"):
            stands = "nothing" if entry.kind is EntryKind.ABSENT else f"a {entry.kind}"
            return unmet(say("prerequisites.but-there-is", found=found, stands=stands))
        host = machine.host_path(path)
        if self.writable and not os.access(host, os.W_OK):
            return unmet(say("prerequisites.which-this-account-may-not-write", found=found))
        return free_of(host, self.free) if self.free is not None else met(found)
