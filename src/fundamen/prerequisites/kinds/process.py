"""A process of the running machine."""

from fundamen.machine.open_files import process_of
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement, only_live


class Process(Requirement, frozen=True, kw_only=True, tag="process"):
    """A process of a name runs, or none does."""

    name: Name
    absent: bool = False

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        return f"{'no' if self.absent else 'a'} process {self.name} runs"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return f"End {self.name} in an orderly way." if self.absent else f"Start {self.name}."

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        user = process_of(self.name)
        if user is None:
            return met("none runs") if self.absent else unmet("none runs")
        found = f"process {user.pid} runs" + (f", of the service {user.service}" if user.service else "")
        return unmet(found) if self.absent else met(found)
