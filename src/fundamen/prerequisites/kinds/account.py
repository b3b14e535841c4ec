"""A user or group of the machine."""

from collections.abc import Iterator

from fundamen.machine.accounts import GROUPS, USERS, accounts
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Platform
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement


class Account(Requirement, frozen=True, kw_only=True, tag="account"):
    """A user or group is there, the user perhaps in groups. Source: passwd(5), group(5)."""

    user: Name | None = None
    group: Name | None = None
    member_of: tuple[Name, ...] = ()

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        parts = [
            say("prerequisites.the-user", user=self.user) if self.user else "",
            say("prerequisites.the-group", group=self.group) if self.group else "",
        ]
        member = say("prerequisites.a-member-of", member_of=", ".join(self.member_of)) if self.member_of else ""
        return " and ".join(filter(None, parts)) + member

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        if not (self.user or self.group):
            return say("prerequisites.neither-a-user-nor-a-group")
        return UNSAID if self.user or not self.member_of else say("prerequisites.member-of-is-of-a-user")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if asked.machine.platform is not Platform.LINUX:
            return unknown(say("prerequisites.accounts-of-are-not-known-here", words=asked.machine.platform.in_words))
        users, groups = accounts(asked.machine, USERS), accounts(asked.machine, GROUPS)
        if not users:
            return unknown(say("prerequisites.etc-passwd-cannot-be-read"))
        return next(map(unmet, self._lacking_parts(users, groups)), met(say("prerequisites.it-is-there")))

    def _lacking_parts(self, users: dict[str, list[str]], groups: dict[str, list[str]]) -> Iterator[Message]:
        if self.user and self.user not in users:
            yield say("prerequisites.there-is-no-user-in-etc", user=self.user)
        for name in filter(None, (self.group, *self.member_of)):
            if name not in groups:
                yield say("prerequisites.there-is-no-group-in-etc", name=name)
        for name in self.member_of:
            number, members = groups[name][2:4]
            if self.user not in members.split(",") and users[str(self.user)][3] != number:
                yield say("prerequisites.is-no-member-of", user=self.user, name=name)
