"""A limit of what one process may use."""

import sys

from fundamen.messages import UNSAID, Message, say
from fundamen.prerequisites.answer import Answer, met_if, unknown
from fundamen.prerequisites.comparison import amount_of
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement, only_live

if sys.platform != "win32":
    import resource


class ResourceLimit(Requirement, frozen=True, kw_only=True, tag="resource limit"):
    """A limit such as nofile is at least a number, for processes that are started from here.

    Source: getrlimit(2), RLIMIT_*, by their names in small letters.
    """

    name: Name
    at_least: int | str  # or "unlimited"
    hard: bool = False  # the limit up to which a process may raise its own

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say(
            "prerequisites.the-limit-is-at-least",
            more="hard " if self.hard else "",
            name=self.name,
            at_least=self.at_least,
        )

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.raise-it-in-the-service-own")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return (
            UNSAID
            if amount_of(self.at_least) is not None
            else say("prerequisites.is-no-number", at_least=self.at_least)
        )

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        if sys.platform == "win32":
            return unknown(say("prerequisites.windows-has-no-such-limits"))
        number = getattr(resource, f"RLIMIT_{self.name.upper()}", None)
        if not isinstance(number, int):
            return unknown(say("prerequisites.this-system-has-no-limit-of"))
        value = resource.getrlimit(number)[1 if self.hard else 0]
        found = "unlimited" if value == resource.RLIM_INFINITY else str(value)
        return met_if(
            (amount_of(found) or 0) >= (amount_of(self.at_least) or 0), say("prerequisites.it-is", value=found)
        )
