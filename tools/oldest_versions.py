"""Print the oldest allowed version of every dependency, as requirements: for a test run with just these.

Run: python tools/oldest_versions.py [EXTRA ...].
"""

import re
import sys
import tomllib
from pathlib import Path

_PLACE = Path(__file__).parent.parent / "pyproject.toml"
_LOWEST = re.compile(r"([A-Za-z0-9_.-]+)>=([0-9.]+)")


def main(extras: list[str]) -> None:
    """Print one requirement a line."""
    project = tomllib.loads(_PLACE.read_text())["project"]
    listed = [*project["dependencies"], *(each for extra in extras for each in project["optional-dependencies"][extra])]
    for each in listed:
        found = _LOWEST.match(each)
        if found is None:
            sys.exit(f"{each} in pyproject.toml has no lowest version")
        print(f"{found[1]}=={found[2]}")


if __name__ == "__main__":
    main(sys.argv[1:])
