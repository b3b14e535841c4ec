"""A user or group of the machine."""

from collections.abc import Iterator

from fundamen.machine.accounts import GROUPS, USERS, accounts
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
        parts = [f"the user {self.user}" if self.user else "", f"the group {self.group}" if self.group else ""]
        member = f", a member of {', '.join(self.member_of)}" if self.member_of else ""
        return " and ".join(filter(None, parts)) + member

    def problem(self) -> str:
        """Find the fault of its fields, beyond their types."""
        if not (self.user or self.group):
            return "neither a user nor a group is named"
        return "" if self.user or not self.member_of else "member_of is of a user, and none is named"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if asked.machine.platform is not Platform.LINUX:
            return unknown(f"accounts of {asked.machine.platform.in_words} are not known here")
        users, groups = accounts(asked.machine, USERS), accounts(asked.machine, GROUPS)
        if not users:
            return unknown("/etc/passwd cannot be read")
        return next(map(unmet, self._lacking_parts(users, groups)), met("it is there"))

    def _lacking_parts(self, users: dict[str, list[str]], groups: dict[str, list[str]]) -> Iterator[str]:
        if self.user and self.user not in users:
            yield f"there is no user {self.user} in /etc/passwd"
        for name in filter(None, (self.group, *self.member_of)):
            if name not in groups:
                yield f"there is no group {name} in /etc/group"
        for name in self.member_of:
            number, members = groups[name][2:4]
            if self.user not in members.split(",") and users[str(self.user)][3] != number:
                yield f"{self.user} is no member of {name}"
