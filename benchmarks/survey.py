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

from all_programs import LISTING, binaries_below
from fundamen.formats.unix.elf import read_elf
from fundamen.machine.file_bytes import FileBytes
from fundamen.model.paths import HostPath

PAIRS = int(sys.argv[1]) if len(sys.argv) > 1 else 5
LOADER = read_elf(FileBytes(HostPath(os.path.realpath(sys.executable)), "")).interpreter
LISTING_LIBRARIES = f'while read -r library; do {LOADER} --list "$library" </dev/null >/dev/null 2>&1; done <"$1"; true'
COMPARE = """
import time
from fundamen.evidence.dpkg_files import Records
from fundamen.machine.opening import open_machine
from fundamen.survey.contents import Comparison
machine = open_machine(None)
with Comparison(machine, Records(machine), {}, time.time_ns()) as comparison:
    print(len(comparison.finish(lambda _found: None).altered))
"""
FUNDAMEN = str(Path(sys.executable).parent / "fundamen")


def main() -> None:
    """Measure all."""
    compileall.compile_dir(Path(__file__).parent.parent / "src", quiet=1)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["FUNDAMEN_HOME"] = folder
        programs, libraries = binaries_below("/usr")
        Path(folder, "programs").write_text("\n".join(programs) + "\n")
        Path(folder, "libraries").write_text("\n".join(libraries) + "\n")
        list_programs = ["bash", "-c", LISTING, "bash", f"{folder}/programs"]
        list_libraries = ["bash", "-c", LISTING_LIBRARIES, "bash", f"{folder}/libraries"]
        of_programs, of_all, uneven = [], [], []
        for _ in range(PAIRS):
            traced, _ = seconds([FUNDAMEN, "trace", "--json", "--only-find", *programs])
            needed, _ = seconds([FUNDAMEN, "survey", "--json", "/usr"])
            listed, _ = seconds(list_programs)
            of_programs.append(traced / listed)
            of_all.append(needed / (listed + seconds(list_libraries)[0]))
            uneven.append(needed / listed)
        print("the needs of all of /usr, against the loader listing one after another (1 is asked):")
        tell(f"  the {len(programs)} programs, traced in one call", *of_programs)
        tell(f"  the programs and {len(libraries)} libraries, surveyed", *of_all)
        tell("  (that survey of both against the listing of the programs alone", *uneven, end=")")
        ratios, alone, again = [], [], []
        for _ in range(PAIRS):
            first, ours = seconds([FUNDAMEN, "survey", "--json", "--depth", "all", "--afresh", "/usr/games"])
            known, _ = seconds([FUNDAMEN, "survey", "--json", "--depth", "all", "/usr/games"])
            theirs, verified = seconds(["dpkg", "--verify"])
            compared, _ = seconds([sys.executable, "-c", COMPARE])
            ratios.append(first / theirs)
            alone.append(compared / theirs)
            again.append(known / first)
        print("every installed file's digest against dpkg --verify (0.6 is asked):")
        tell("  the comparison alone, as a process", *alone)
        tell("  the whole survey", *ratios)
        tell("the second such run against the first (0.2 is asked)", *again)
        found = {each["path"] for each in json.loads(ours)["altered"]}
        dpkg = {line.partition(" /")[2] for line in verified.splitlines()}
        print(f"findings: {len(found)}; those of dpkg: {len(dpkg)}; only in one: {len({p[1:] for p in found} ^ dpkg)}")


def tell(what: str, *ratios: float, end: str = "") -> None:
    """A line with the median and the spread."""
    print(f"{what}: {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f}){end}")


def seconds(command: list[str]) -> tuple[float, str]:
    """How long a command takes as a whole process, and what it prints."""
    began = time.perf_counter()
    ran = subprocess.run(command, capture_output=True, text=True, errors="surrogateescape", check=False)
    return time.perf_counter() - began, ran.stdout


if __name__ == "__main__":
    main()
