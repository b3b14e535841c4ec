"""An entry of a directory (LDAP): it is there, has attributes, and names a host that answers."""

import math
import socket
from typing import TYPE_CHECKING, Annotated, ClassVar

import msgspec

from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import USUAL_SECONDS, Asked, Name, Requirement, Seconds, Text

if TYPE_CHECKING:
    from ldap3 import Connection

_DN_HOST = "cn="  # how directories that name hosts by their entries begin such a name


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
        """As of every requirement."""
        parts = [f"{name} = {value}" if value else name for name, value in self.has.items()]
        host = f", and {self.host_in} names a host that answers" if self.host_in else ""
        return f"the entry {self.entry} of {self.server}{' with ' if parts else ''}{', '.join(parts)}{host}"

    @property
    def advice(self) -> str:
        """As of every requirement."""
        return "Ask whoever runs the directory; change no entry before it was written down as it is."

    def problem(self) -> str:
        """As of every requirement."""
        return "" if self.host_port is None or self.host_in else "host_port is of host_in, and that is not given"

    def check(self, asked: Asked) -> Answer:
        """As of every requirement."""
        if not asked.machine.is_live:
            return unknown(f"a directory is asked from the machine that runs, and {asked.machine.title} does not")
        try:
            import ldap3  # noqa: PLC0415 - only where a directory is asked
            from ldap3.core.exceptions import LDAPException  # noqa: PLC0415
        except ImportError:
            return unknown("it needs a library for directories: pip install 'fundamen[directories]'")
        try:  # the library would leave a connection open that is refused
            socket.create_connection((self.server, self.port), self.seconds).close()
        except OSError as error:
            return unmet(f"{self.server}:{self.port} does not answer: {error.strerror or error}")
        server = ldap3.Server(
            self.server, self.port, use_ssl=self.tls, connect_timeout=self.seconds, get_info=ldap3.NONE
        )
        try:
            connection = ldap3.Connection(
                server, receive_timeout=math.ceil(self.seconds), read_only=True, auto_referrals=False
            )
            try:
                if not connection.bind():
                    return unknown(f"{self.server} lets nobody in without a name: {connection.result['description']}")
                return self._found(connection)
            finally:
                connection.unbind()
        except LDAPException as error:
            return unmet(f"{self.server}:{self.port} does not answer as a directory: {error}")

    def _found(self, connection: "Connection") -> Answer:
        connection.search(self.entry, "(objectClass=*)", "BASE", attributes=["*"])
        if connection.result["description"] == "noSuchObject":
            matched = connection.result["dn"]
            return unmet(f"there is no such entry{f'; the last one above it is {matched}' if matched else ''}")
        if not connection.response or connection.result["result"] != 0:
            return unknown(f"{self.server} says: {connection.result['description']}")
        held = {
            name.lower(): list(map(_text, values)) for name, values in connection.response[0]["raw_attributes"].items()
        }
        for name, value in self.has.items():
            values = held.get(name.lower(), [])
            if not values:
                return unmet(f"it has no {name}")
            if value and value.lower() not in map(str.lower, values):
                return unmet(f"its {name} is {', '.join(values)}")
        return self._host(held) if self.host_in else met("it is there")

    def _host(self, held: dict[str, list[str]]) -> Answer:
        values = held.get(str(self.host_in).lower(), [])
        if not values:
            return unmet(f"it names no host: it has no {self.host_in}")
        named = values[0]
        host = named.partition(",")[0][len(_DN_HOST) :] if named.lower().startswith(_DN_HOST) else named
        try:
            if self.host_port is None:
                socket.getaddrinfo(host, None)
                return met(f"its host {host} has an address")
            socket.create_connection((host, self.host_port), self.seconds).close()
        except OSError as error:
            where = f" at port {self.host_port}" if self.host_port is not None else ""
            return unmet(f"its host {host} does not answer{where}: {error.strerror or error}")
        return met(f"its host {host} answers at port {self.host_port}")


def _text(value: bytes) -> str:
    return value.decode("utf-8", "replace")
