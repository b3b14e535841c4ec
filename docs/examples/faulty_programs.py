"""List the programs in a folder that cannot start, each with its first fault.

Run: python faulty_programs.py FOLDER [MACHINE]
"""

import sys
from pathlib import Path

from fundamen import FundamenError, Session


def main(folder: str, root: str | None = None) -> int:
    """Trace every file in the folder; give the number of programs that cannot start."""
    session = Session()
    machine = session.machine(root)
    count = 0
    for path in sorted(Path(root or "/", folder.lstrip("/")).iterdir()):
        try:
            result = session.trace(f"{folder.rstrip('/')}/{path.name}", machine)
        except FundamenError:  # no program
            continue
        if result.faults:
            count += 1
            first = result.faults[0]
            print(f"{path.name}: {first.name} is {first.verdict}: {first.reason}")
    return count


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]) > 0)
