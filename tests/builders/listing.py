"""Read what a loader lists of the files that it maps."""

import os


def listed(output: bytes) -> set[str | None]:
    """The real files; None for each name that it does not find."""
    found: set[str | None] = set()
    for line in output.decode("utf-8", "surrogateescape").splitlines():
        name, arrow, path = line.strip().partition(" => ")
        if arrow:
            found.add(None if "not found" in path else os.path.realpath(path.partition(" (0x")[0]))
        elif name.startswith("/"):
            found.add(os.path.realpath(name.partition(" (0x")[0]))
    return found
