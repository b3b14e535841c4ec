"""Fuzz every reader of what comes from outside, guided by coverage, within bounds of time and memory.

Run: python tools/fuzz.py [--seconds N] [--jobs N] [--list] [TARGET ...]; N seconds for each target. Needs atheris. What
was found to be of interest is kept in .fuzz/ and is where the next run begins; an input that breaks a reader is kept
there too, and belongs into tests/data/fuzzed/ with the reader's name, where tests/test_fuzzed.py holds it for ever.
"""

import argparse
import os
import re
import sys
import time
from pathlib import Path
from typing import NamedTuple

import atheris

with atheris.instrument_imports(include=["fundamen"]):
    from hostile_inputs import Target, file_name, fuzzed_inputs, targets

from fundamen.model.errors import FundamenError

FOLDER = Path(__file__).parent.parent / ".fuzz"
MOST_SECONDS = 10  # of one input
MOST_MEMORY = 1024  # MiB, of the whole process
LONGEST = 64 << 10  # bytes of an input; a longer seed sets its own bound
_BROKEN = re.compile(r"Uncaught Python exception|ERROR: libFuzzer")
_COVERED = re.compile(r"cov: (\d+) ft: (\d+)")


class Fuzzed(NamedTuple):
    """The result of a target."""

    name: str
    runs: int
    edges: int
    findings: tuple[str, ...]


def fuzz(target: Target, seconds: int) -> int:
    """Fuzz a target in a child of this process; give the child."""
    child = os.fork()
    if child:
        return child
    folder = FOLDER / file_name(target.name)
    folder.mkdir(parents=True, exist_ok=True)
    for number, seed in enumerate((*target.seeds, *fuzzed_inputs(target))):
        (folder / f"seed-{number}").write_bytes(seed)
    log = os.open(folder.with_suffix(".log"), os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
    os.dup2(log, 1)
    os.dup2(log, 2)
    words = [
        sys.argv[0],
        f"-max_total_time={seconds}",
        f"-timeout={MOST_SECONDS}",
        f"-rss_limit_mb={MOST_MEMORY}",
        f"-max_len={max(LONGEST, *map(len, target.seeds))}",
        f"-artifact_prefix={FOLDER / 'broken'}/{file_name(target.name)}-",
        "-print_final_stats=1",
        str(folder),
    ]

    def once(data: bytes) -> None:
        try:
            target.reader(data)
        except FundamenError:
            return

    atheris.Setup(words, once)
    atheris.Fuzz()
    os._exit(0)


def outcome(target: Target) -> Fuzzed:
    """The result in the log of a target."""
    name = file_name(target.name)
    text = (FOLDER / f"{name}.log").read_text(errors="replace")
    runs = [int(found) for found in re.findall(r"stat::number_of_executed_units: (\d+)", text)]
    covered = _COVERED.findall(text)
    broken = tuple(sorted(path.name for path in (FOLDER / "broken").glob(f"{name}-*")))
    if not broken and (_BROKEN.search(text) or not runs):  # it ended before it could write down what broke it
        broken = (f"see {name}.log",)
    return Fuzzed(target.name, sum(runs), int(covered[-1][0]) if covered else 0, broken)


def main() -> int:
    """Fuzz the targets, some at a time, and print what came of each; give the number of findings."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("names", nargs="*", metavar="TARGET")
    parser.add_argument("--seconds", type=int, default=10)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--list", action="store_true")
    asked = parser.parse_args()
    every = targets()
    if asked.list:
        print(*(target.name for target in every), sep="\n")
        return 0
    chosen = [target for target in every if not asked.names or target.name in asked.names]
    (FOLDER / "broken").mkdir(parents=True, exist_ok=True)
    waiting, running, done = list(chosen), dict[int, Target](), list[Fuzzed]()
    began = time.monotonic()
    while waiting or running:
        while waiting and len(running) < asked.jobs:
            target = waiting.pop(0)
            running[fuzz(target, asked.seconds)] = target
        child, _ = os.wait()
        found = outcome(running.pop(child))
        done.append(found)
        print(f"{found.name:<32}{found.runs:>10} runs {found.edges:>6} edges  {' '.join(found.findings)}", flush=True)
    runs, findings = sum(each.runs for each in done), sum(len(each.findings) for each in done)
    took = time.monotonic() - began
    print(f"{len(done)} targets, {runs} runs, {asked.seconds * len(done)} s in {took:.0f} s, {findings} findings")
    return findings


if __name__ == "__main__":
    sys.exit(main() > 0)
