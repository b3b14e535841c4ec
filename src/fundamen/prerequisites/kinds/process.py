"""A process of the running machine."""

from fundamen.machine.open_files import process_of
from fundamen.messages import Message, say
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement, only_live


class Process(Requirement, frozen=True, kw_only=True, tag="process"):
    """A process of a name runs, or none does."""

    name: Name
    absent: bool = False

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.process-runs", more="no" if self.absent else "a", name=self.name)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        if self.absent:
            return say("prerequisites.end-in-an-orderly-way", name=self.name)
        return say("prerequisites.start-it", name=self.name)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        user = process_of(self.name)
        if user is None:
            found = say("prerequisites.none-runs")
            return met(found) if self.absent else unmet(found)
        found = say(
            "prerequisites.process-runs-pid-more",
            pid=user.pid,
            more=say("prerequisites.of-the-service", service=user.service) if user.service else "",
        )
        return unmet(found) if self.absent else met(found)
