"""A process of the running machine."""

from fundamen.machine.open_files import process_of
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import Asked, Name, Requirement, only_live


class Process(Requirement, frozen=True, kw_only=True, tag="process"):
    """A process of a name runs, or none does."""

    name: Name
    absent: bool = False

    @property
    def needed(self) -> str:
        """As of every requirement."""
        return f"{'no' if self.absent else 'a'} process {self.name} runs"

    @property
    def advice(self) -> str:
        """As of every requirement."""
        return f"End {self.name} in an orderly way." if self.absent else f"Start {self.name}."

    def check(self, asked: Asked) -> Answer:
        """As of every requirement."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        user = process_of(self.name)
        if user is None:
            return met("none runs") if self.absent else unmet("none runs")
        found = f"process {user.pid} runs" + (f", of the service {user.service}" if user.service else "")
        return unmet(found) if self.absent else met(found)
