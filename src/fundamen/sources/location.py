"""Find the place that a source's location names: a folder, or an address."""

import os

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.sources.place import FolderPlace, SourcePlace

_SCHEME = "https://"


def is_served(location: str) -> bool:
    """Whether a source's location is an address rather than a folder."""
    return "://" in location


def default_name(location: str) -> str:
    """How a source is called if no one names it: by its folder, or its server."""
    plain = location.partition("://")[2].partition("/")[0].partition(":")[0] if is_served(location) else location
    return os.path.basename(plain).replace(" ", "-")


def open_place(location: str, authority: str = "") -> SourcePlace:
    """The place at a folder or an address.

    Args:
        location: a folder's path, or an address that begins with https://.
        authority: certificates in PEM that the server's chain may end in besides those that this host trusts.

    Raises:
        UsageError: the address is none that can be used.
    """
    if not is_served(location):
        return FolderPlace(location)
    if not location.startswith(_SCHEME) or "@" in location.partition("://")[2].partition("/")[0]:
        raise UsageError(
            what=say("sources.the-source-cannot-be-used", location=printable(location)),
            why=say("sources.an-address-begins-with-https-and"),
            do=say("sources.name-it-as-for-example-https"),
        )
    from fundamen.sources.served import ServedPlace  # noqa: PLC0415 - a folder is read without the network's libraries

    return ServedPlace(location.rstrip("/"), authority)
