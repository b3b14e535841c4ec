"""An entry of a directory (LDAP): it is there, has attributes, and names a host that answers."""

from typing import TYPE_CHECKING, Annotated, ClassVar

import msgspec

from fundamen.directories.host import find_host, value_of
from fundamen.prerequisites.answer import Answer, met, met_if, unknown, unmet
from fundamen.prerequisites.requirement import USUAL_SECONDS, CheckContext, Name, Requirement, Seconds, Text

if TYPE_CHECKING:
    from fundamen.directories.connection import Attributes


class DirectoryEntry(Requirement, frozen=True, kw_only=True, tag="directory entry"):
    """An entry is found by an anonymous search, has attributes, and one of them names a host that answers.

    Source: RFC 4511, "Search Operation"; RFC 4514, how names are written.
    """

    server: Name
    entry: Name  # its distinguished name
    port: Annotated[int, msgspec.Meta(ge=1, le=65535)] = 389
    tls: bool = False
    has: dict[Name, Text] = msgspec.field(default_factory=dict)  # attribute -> a value; empty: any
    host_in: Name | None = None  # the attribute that names a host, by its name or by the entry that stands for it
    host_port: Annotated[int, msgspec.Meta(ge=1, le=65535)] | None = None  # where that host must answer
    seconds: Seconds = USUAL_SECONDS

    waits: ClassVar[bool] = True

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        parts = [f"{name} = {value}" if value else name for name, value in self.has.items()]
        host = f", and {self.host_in} names a host that answers" if self.host_in else ""
        return f"the entry {self.entry} of {self.server}{' with ' if parts else ''}{', '.join(parts)}{host}"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return "Ask the directory's administrator; record each entry before you change it."

    def problem(self) -> str:
        """Find the fault of its fields, beyond their types."""
        return "" if self.host_port is None or self.host_in else "host_port is of host_in, and that is not given"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return unknown(f"a directory is asked from the machine that runs, and {asked.machine.title} does not")
        from fundamen.directories.connection import DirectoryPlace, UnreachableDirectoryError, open_directory  # noqa: PLC0415

        try:
            with open_directory(DirectoryPlace(self.server, self.port, self.tls, seconds=self.seconds)) as directory:
                held = directory.read(self.entry)
        except UnreachableDirectoryError as error:
            return unmet(f"{self.server}:{self.port} does not answer: {error.why}")
        if held is None:
            return unmet(f"there is no such entry{_nearest(directory.nearest)}")
        return self._judge_entry(held)

    def _judge_entry(self, held: "Attributes") -> Answer:
        for name, value in self.has.items():
            values = value_of(held, name)
            if not values:
                return unmet(f"it has no {name}")
            if value and value.lower() not in map(str.lower, values):
                return unmet(f"its {name} is {', '.join(values)}")
        if self.host_in is None:
            return met("it is there")
        host = find_host(held, self.host_in, self.host_port, self.seconds)
        return met_if(host.answers, host.found)


def _nearest(entry: str) -> str:
    return f"; the last one above it is {entry}" if entry else ""
