"""A program or library that has all it needs."""

from fundamen.messages import Message, name_some, say
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement

_MOST_NAMED = 5


class Program(Requirement, frozen=True, kw_only=True, tag="program"):
    """A program or library is there, and all that it declares to need is found by this machine's own loader."""

    path: Path

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.all-that-declares-to-need", path=self.path)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.fundamen-restore", path=self.path)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        from fundamen.trace.trace import trace_program  # noqa: PLC0415 - it loads much, and not every sheet needs it

        trace = trace_program(asked.machine, MachinePath(self.path))
        if not trace.faults:
            return met(say("prerequisites.components-are-found", count=len(trace.components)))
        return unmet(name_some([f"{fault.name} ({fault.verdict})" for fault in trace.faults], _MOST_NAMED))
