"""Measure how time and memory of a survey grow with the number of files: made-up trees of up to a million.

Run: python benchmarks/survey_large.py [FOLDER [MOST]]; the trees are made in FOLDER, in memory by default.
"""

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

GIVEN = sys.argv[1:]
FOLDER = Path(GIVEN[0] if GIVEN else "/dev/shm") / "fundamen-large"  # noqa: S108 - in memory
MOST = int(GIVEN[1]) if GIVEN[1:] else 1_000_000
FUNDAMEN = str(Path(sys.executable).parent / "fundamen")
_IN_A_FOLDER = 200


def main() -> None:
    """Measure a quarter, a half, and all."""
    os.environ["FUNDAMEN_HOME"] = str(FOLDER / "home")
    root = FOLDER / "root"
    made = 0
    for name in ("usr/lib", "etc"):
        (root / name).mkdir(parents=True, exist_ok=True)
    try:
        for count in (MOST // 4, MOST // 2, MOST):
            make(root, made, count)
            made = count
            seconds, memory = measure([FUNDAMEN, "survey", "-m", str(root), "/usr", "--json"])
            print(f"{count} files: {seconds:.1f} s, {seconds / count * 1e6:.1f} s a million, {memory} MiB")
    finally:
        shutil.rmtree(FOLDER, ignore_errors=True)


def make(root: Path, begin: int, end: int) -> None:
    """Make files of a few bytes, some of them executables that are none, in folders of a few hundred."""
    for number in range(begin, end):
        folder = root / "usr/share" / str(number // (_IN_A_FOLDER * 100)) / str(number // _IN_A_FOLDER)
        if not number % _IN_A_FOLDER:
            folder.mkdir(parents=True, exist_ok=True)
        handle = os.open(folder / f"{number}.txt", os.O_CREAT | os.O_WRONLY, 0o755 if not number % 50 else 0o644)
        os.close(handle)


def measure(command: list[str]) -> tuple[float, int]:
    """How long a command takes, and the most memory that the largest of its processes has held, in MiB."""
    began = time.perf_counter()
    with subprocess.Popen(command, stdout=subprocess.DEVNULL) as process:
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode not in {0, 1}:
        raise SystemExit(f"the survey ended with {process.returncode}")
    return time.perf_counter() - began, used.ru_maxrss >> 10


if __name__ == "__main__":
    main()
