"""Measure how long a fleet's table takes: captures of made-up machines, of 600 packages each.

Run: python benchmarks/fleet.py [CAPTURES [ROUNDS]].
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from builders.fleet import a_fleet

GIVEN = [int(word) for word in sys.argv[1:]]
COUNT = GIVEN[0] if GIVEN else 200
ROUNDS = GIVEN[1] if GIVEN[1:] else 5
FUNDAMEN = str(Path(sys.executable).parent / "fundamen")


def main() -> None:
    """Measure, and print the median with its spread."""
    with tempfile.TemporaryDirectory() as place:
        os.environ["FUNDAMEN_HOME"] = str(Path(place) / "home")
        folder = a_fleet(Path(place) / "captures", COUNT, packages=600)
        for words in ([], ["--json"], ["--write", str(Path(place) / "fleet.csv")]):
            seconds = []
            for _ in range(ROUNDS):
                began = time.perf_counter()
                ran = subprocess.run([FUNDAMEN, "fleet", str(folder), *words], check=False, stdout=subprocess.DEVNULL)
                seconds.append(time.perf_counter() - began)
                if ran.returncode != 1:
                    raise SystemExit(f"it ended with {ran.returncode}")
                (Path(place) / "fleet.csv").unlink(missing_ok=True)
            form = " ".join(words[:1]) or "as text"
            print(
                f"{COUNT} captures, {form}: {statistics.median(seconds):.2f} s",
                f"({min(seconds):.2f} to {max(seconds):.2f})",
            )


if __name__ == "__main__":
    main()
