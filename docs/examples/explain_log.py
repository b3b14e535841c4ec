"""Explain a log, and print the commands that find out more.

Run: python explain_log.py LOG
"""

import sys
from pathlib import Path

from fundamen import Session


def main(log: str) -> int:
    """Explain the log; give 1 where it tells of a failure."""
    result = Session().clues(Path(log).read_bytes())
    decisive = result.reading.decisive
    if decisive is None:
        print("The log tells of no failure.")
        return 0
    print(f"line {decisive.line}: {decisive.text}")
    for step in result.next_steps:
        print(f"  next: {step}")
    return 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
