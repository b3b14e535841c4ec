"""Measure a survey of this host: needs against the loader's own listing, digests against dpkg's own verification.

Each runs turn by turn with its yardstick, as whole processes. The findings of both comparisons of installed files are
compared as well. Run: python benchmarks/survey.py [PAIRS]
"""

import compileall
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from all_programs import LISTING, programs_below

PAIRS = int(sys.argv[1]) if len(sys.argv) > 1 else 5
FUNDAMEN = str(Path(sys.executable).parent / "fundamen")


def main() -> None:
    """Measure all."""
    compileall.compile_dir(Path(__file__).parent.parent / "src", quiet=1)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["FUNDAMEN_HOME"] = folder
        listed = Path(folder, "programs")
        listed.write_text("\n".join(programs_below("/usr")) + "\n")
        listing = ["bash", "-c", LISTING, "bash", str(listed)]
        tell("needs of all of /usr, libraries and scripts too, against the loader's listing of the programs", *(
            seconds([FUNDAMEN, "survey", "--json", "/usr"])[0] / seconds(listing)[0] for _ in range(PAIRS)
        ))  # fmt: skip
        ratios, again = [], []
        for _ in range(PAIRS):
            first, ours = seconds([FUNDAMEN, "survey", "--json", "--depth", "all", "--afresh", "/usr/games"])
            known, _ = seconds([FUNDAMEN, "survey", "--json", "--depth", "all", "/usr/games"])
            theirs, verified = seconds(["dpkg", "--verify"])
            ratios.append(first / theirs)
            again.append(known / first)
        tell("every installed file's digest against dpkg --verify (0.6 is asked)", *ratios)
        tell("the second such run against the first (0.2 is asked)", *again)
        found = {each["path"] for each in json.loads(ours)["altered"]}
        dpkg = {line.partition(" /")[2] for line in verified.splitlines()}
        print(f"findings: {len(found)}; those of dpkg: {len(dpkg)}; only in one: {len({p[1:] for p in found} ^ dpkg)}")


def tell(what: str, *ratios: float) -> None:
    """A line with the median and the spread."""
    print(f"{what}: {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})")


def seconds(command: list[str]) -> tuple[float, str]:
    """How long a command takes as a whole process, and what it prints."""
    began = time.perf_counter()
    ran = subprocess.run(command, capture_output=True, text=True, errors="surrogateescape", check=False)
    return time.perf_counter() - began, ran.stdout


if __name__ == "__main__":
    main()
