"""A program or library that has all it needs."""

from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement

_MOST_NAMED = 5


class Program(Requirement, frozen=True, kw_only=True, tag="program"):
    """A program or library is there, and all that it declares to need is found by this machine's own loader."""

    path: Path

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        return f"all that {self.path} declares to need"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return f"fundamen restore {self.path}"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        from fundamen.trace.trace import trace_program  # noqa: PLC0415 - it loads much, and not every sheet needs it

        trace = trace_program(asked.machine, MachinePath(self.path))
        if not trace.faults:
            return met(f"{len(trace.components)} components are found")
        named = ", ".join(f"{fault.name} ({fault.verdict})" for fault in trace.faults[:_MOST_NAMED])
        more = f" and {len(trace.faults) - _MOST_NAMED} more" if len(trace.faults) > _MOST_NAMED else ""
        return unmet(named + more)
