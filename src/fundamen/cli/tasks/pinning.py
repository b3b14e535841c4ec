"""Versions of packages that are asked for on the command line."""

import re
from collections.abc import Iterable

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
                what=f"The version {printable(each)!r} cannot be asked for",
                why="it does not name a package and a version",
                do="Write it as, for example, --pin 'Saltgrass Runtime==4.2.1'.",
            )
        require_specifier(found[2])
        pins.append(Pin(found[1], found[2]))
    if pins and not because.strip():
        raise UsageError(
            what="No version is asked for without a reason",
            why="the next technician must know why it is another version than usual",
            do="Say it with --because 'REASON'.",
        )
    return tuple(pins)
