"""The host that an entry names, and whether it answers."""

import socket

import msgspec

from fundamen.directories.connection import Attributes
from fundamen.messages import Message, say

_BY_ENTRY = "cn="  # how directories that name a host by the entry that stands for it begin such a name


class NamedHost(msgspec.Struct, frozen=True):
    """The host that an attribute names, and whether it answers."""

    name: str  # empty where the entry names none
    answers: bool
    found: Message  # in words


def find_host(held: Attributes, attribute: str, port: int | None, seconds: float) -> NamedHost:
    """Look whether the host that an attribute names has an address or, where a port is given, answers there."""
    values = value_of(held, attribute)
    if not values:
        return NamedHost("", answers=False, found=say("directories.it-names-no-host-it-has", attribute=attribute))
    named = values[0]
    host = named.partition(",")[0][len(_BY_ENTRY) :] if named.lower().startswith(_BY_ENTRY) else named
    where = say("directories.at-port", port=port) if port is not None else ""
    try:
        if port is None:
            socket.getaddrinfo(host, None)
            return NamedHost(host, answers=True, found=say("directories.its-host-has-an-address", host=host))
        socket.create_connection((host, port), seconds).close()
    except (OSError, UnicodeError) as error:
        why = getattr(error, "strerror", None) or str(error)
        return NamedHost(
            host, answers=False, found=say("directories.its-host-does-not-answer", host=host, where=where, why=why)
        )
    return NamedHost(host, answers=True, found=say("directories.its-host-answers", host=host, where=where))


def value_of(held: Attributes, attribute: str) -> list[str]:
    """The values of an attribute as text; names are compared without case."""
    found = next((values for name, values in held.items() if name.lower() == attribute.lower()), ())
    return [value.decode("utf-8", "replace") for value in found]
