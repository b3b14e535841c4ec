"""Versions of packages that are asked for on the command line."""

import re
from collections.abc import Iterable

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.restore.plan import Pin
from fundamen.sources.offers import require_specifier

_PIN = re.compile(r"^([^=<>!~]+?)\s*([=<>!~].*)$")


def read_pins(asked: Iterable[str], because: str) -> tuple[Pin, ...]:
    """Packages with their versions. Raises: UsageError: one cannot be read, or no reason was given."""
    pins = []
    for each in asked:
        found = _PIN.match(each)
        if found is None:
            raise UsageError(
                what=say("cli.the-version-cannot-be-asked-for", each=printable(each)),
                why=say("cli.it-does-not-name-a-package"),
                do=say("cli.write-it-as-for-example-pin"),
            )
        require_specifier(found[2])
        pins.append(Pin(found[1], found[2]))
    if pins and not because.strip():
        raise UsageError(
            what=say("cli.no-version-is-asked-for-without"),
            why=say("cli.the-next-technician-must-know-why"),
            do=say("cli.say-it-with-because-reason"),
        )
    return tuple(pins)
