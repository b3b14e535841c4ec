"""An entry of a directory (LDAP): it is there, has attributes, and names a host that answers."""

from typing import TYPE_CHECKING, Annotated, ClassVar

import msgspec

from fundamen.directories.host import find_host, value_of
from fundamen.messages import UNSAID, Message, say
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
    def needed(self) -> Message:
        """Name the need in a few words."""
        parts = [f"{name} = {value}" if value else name for name, value in self.has.items()]
        host = say("prerequisites.and-names-a-host-that-answers", host_in=self.host_in) if self.host_in else UNSAID
        return say(
            "prerequisites.the-entry-of",
            entry=self.entry,
            server=self.server,
            more=" with " if parts else "",
            parts=", ".join(parts),
            host=host,
        )

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.ask-the-directory-administrator-record-each")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return UNSAID if self.host_port is None or self.host_in else say("prerequisites.host-port-is-of-host-in")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return unknown(say("prerequisites.a-directory-is-asked-from-the", title=asked.machine.title))
        from fundamen.directories.connection import DirectoryPlace, UnreachableDirectoryError, open_directory  # noqa: PLC0415

        try:
            with open_directory(DirectoryPlace(self.server, self.port, self.tls, seconds=self.seconds)) as directory:
                held = directory.read(self.entry)
        except UnreachableDirectoryError as error:
            return unmet(say("prerequisites.does-not-answer", server=self.server, port=self.port, why=error.why))
        if held is None:
            return unmet(say("prerequisites.there-is-no-such-entry", nearest=_nearest(directory.nearest)))
        return self._judge_entry(held)

    def _judge_entry(self, held: "Attributes") -> Answer:
        for name, value in self.has.items():
            values = value_of(held, name)
            if not values:
                return unmet(say("prerequisites.it-has-no", name=name))
            if value and value.lower() not in map(str.lower, values):
                return unmet(say("prerequisites.its-is", name=name, values=", ".join(values)))
        if self.host_in is None:
            return met(say("prerequisites.it-is-there"))
        host = find_host(held, self.host_in, self.host_port, self.seconds)
        return met_if(host.answers, host.found)


def _nearest(entry: str) -> Message:
    return say("prerequisites.the-last-one-above-it-is", entry=entry) if entry else UNSAID
