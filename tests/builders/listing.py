"""Read what a loader lists of the files that it maps."""

import os
from collections.abc import Callable


def listed(output: bytes, real: Callable[[str], str] = os.path.realpath) -> set[str | None]:
    """The real files; None for each name that it does not find."""
    found: set[str | None] = set()
    for line in output.decode("utf-8", "surrogateescape").splitlines():
        name, arrow, path = line.strip().partition(" => ")
        if arrow:
            found.add(None if "not found" in path else real(path.partition(" (0x")[0]))
        elif name.startswith("/"):
            found.add(real(name.partition(" (0x")[0]))
    return found
