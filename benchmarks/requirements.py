"""Check a sheet of 1,000 requirements: the built command beside the start of Python with click.

Usage: python benchmarks/requirements.py [runs]. Budget: under 1 s warm, where no network and no command is involved.
"""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

RUNS = int(sys.argv[1]) if len(sys.argv) > 1 else 9
COMMAND = Path(sys.executable).parent / "fundamen"
COUNT = 1000
KINDS = (
    'kind = "file"\npath = "/usr/bin/env"',
    'kind = "kernel setting"\nname = "kernel.pid_max"\nat_least = 10',
    'kind = "package"\nname = "libc6"',
    'kind = "setting"\nfile = "{folder}/settings.ini"\nkey = ["store", "k{n}"]\nequals = {n}',
    'kind = "account"\nuser = "root"',
    'kind = "rights"\npath = "/usr"\nallows = "0500"',
    'kind = "environment variable"\nname = "PATH"',
    'kind = "tool"\nname = "env"',
    'kind = "disk space"\npath = "/"\nat_least = "1K"',
    'kind = "resource limit"\nname = "nofile"\nat_least = 1',
)


def write_sheet(folder: Path) -> Path:
    """A sheet of ten kinds in turn; the settings file has a line for each number."""
    kinds = [KINDS[n % len(KINDS)].format(folder=folder, n=n) for n in range(COUNT)]
    text = ['schema = "fundamen.sheet/1"\nname = "Many"\n']
    text += [f'[[requirement]]\nid = "r{n}"\n{kind}\n' for n, kind in enumerate(kinds)]
    (folder / "settings.ini").write_text("[store]\n" + "".join(f"k{n} = {n}\n" for n in range(COUNT)))
    (folder / "sheet.toml").write_text("\n".join(text))
    return folder / "sheet.toml"


def seconds_of(*words: str | Path) -> float:
    """How long a command takes as a whole."""
    begin = time.perf_counter()
    done = subprocess.run(words, capture_output=True, text=True, check=True)
    assert "click" in str(words) or f"all {COUNT} requirements are met" in done.stdout, done.stdout  # noqa: S101
    return time.perf_counter() - begin


def main() -> None:
    """Measure in turn, and print medians with their spread."""
    with tempfile.TemporaryDirectory() as folder:
        sheet = write_sheet(Path(folder))
        seconds_of(COMMAND, "prereqs", sheet)
        checks, starts = [], []
        for _ in range(RUNS):
            checks.append(seconds_of(COMMAND, "prereqs", sheet))
            starts.append(seconds_of(sys.executable, "-c", "import click"))
    ratio = statistics.median(checks) / statistics.median(starts)
    print(
        f"{COUNT} requirements: {statistics.median(checks):.2f} s ({min(checks):.2f} to {max(checks):.2f}), "
        f"{ratio:.1f} times the start of Python with click"
    )


if __name__ == "__main__":
    main()
