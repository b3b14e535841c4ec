"""The memory of the running machine."""

import re

from fundamen.messages import UNSAID, Message, name_some, say
from fundamen.prerequisites.answer import Answer, met_if, unknown
from fundamen.prerequisites.comparison import amount_of
from fundamen.prerequisites.requirement import CheckContext, Requirement, only_live

_PATH = "/proc/meminfo"
_FIELD = re.compile(r"^(\w+): +(\d+) kB$", re.MULTILINE)
_MIB = 1 << 20


class MemoryRequirement(Requirement, frozen=True, kw_only=True, tag="memory"):
    """The machine has memory of at least a size, or has as much available, or as much swap space."""

    total: int | str = 0  # bytes, or as "2G"
    available: int | str = 0
    swap: int | str = 0

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        wanted = {"in all": self.total, "available": self.available, say("prerequisites.of-swap-space"): self.swap}
        return say("prerequisites.memory", value=", ".join((f"{size} {what}" for what, size in wanted.items() if size)))

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        sizes = (self.total, self.available, self.swap)
        if not any(sizes):
            return say("prerequisites.no-size-is-asked-for")
        return (
            UNSAID if all(amount_of(size) is not None for size in sizes) else say("prerequisites.a-size-is-not-such-as")
        )

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine. Source: proc_meminfo(5)."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        has = {name: int(kib) << 10 for name, kib in _FIELD.findall(_read_statement())}
        wanted = {"MemTotal": self.total, "MemAvailable": self.available, "SwapTotal": self.swap}
        asked_for = {name: amount_of(size) or 0 for name, size in wanted.items() if size}
        if not asked_for.keys() <= has.keys():
            return unknown(say("prerequisites.the-system-does-not-say"))
        found = name_some([f"{name} {has[name] // _MIB} MiB" for name in asked_for], len(asked_for))
        return met_if(all(has[name] >= size for name, size in asked_for.items()), found)


def _read_statement() -> str:
    """The system's statement on its memory; empty where it has none in this form."""
    try:
        with open(_PATH, encoding="ascii", errors="replace") as file:
            return file.read(1 << 16)
    except FileNotFoundError:
        return ""
