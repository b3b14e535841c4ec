"""Measure the budgets of single commands as ratios: each command against ``python -c "import click"``, turn by turn.

Prints the median of the ratios pair by pair with their quartiles, and the budget. Modules are compiled first, as an
installation compiles them. Run: make bench, or python benchmarks/start_up.py [PAIRS]
"""

import compileall
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PAIRS = int(sys.argv[1]) if len(sys.argv) > 1 else 25
FUNDAMEN = str(Path(sys.executable).parent / "fundamen")
YARDSTICK = [sys.executable, "-c", "import click"]


def main() -> None:
    """Measure all."""
    compileall.compile_dir(Path(__file__).parent.parent / "src", quiet=1)
    small, large = program_with_libraries(2), program_with_libraries(30)
    cases = [
        ("fundamen --version", [FUNDAMEN, "--version"], 1.3),
        (f"fundamen trace {small}", [FUNDAMEN, "trace", small], 2.5),
        (f"fundamen trace {large} (30 libraries or the nearest here)", [FUNDAMEN, "trace", large], 2.5),
    ]
    with tempfile.TemporaryDirectory() as home:
        environment = {**os.environ, "FUNDAMEN_HOME": home}
        for title, command, budget in cases:
            for warming in (command, YARDSTICK):
                seconds(warming, environment)
            ratios = [seconds(command, environment) / seconds(YARDSTICK, environment) for _ in range(PAIRS)]
            low, middle, high = statistics.quantiles(ratios, n=4)
            print(f"{title}: {middle:.2f} x import click (quartiles {low:.2f} to {high:.2f}); budget {budget}")


def seconds(command: list[str], environment: dict[str, str]) -> float:
    """How long a command takes as a whole process."""
    began = time.perf_counter()
    subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - began


def program_with_libraries(wanted: int) -> str:
    """The program of this host whose count of libraries, by the loader's own list, comes nearest."""
    names = ("env", "git", "curl", "python3", "ssh", "gpg", "gdb", "xterm", "systemctl", "convert")
    counts = {path: libraries(path) for name in names if (path := shutil.which(name))}
    return min(counts, key=lambda path: abs(counts[path] - wanted))


def libraries(path: str) -> int:
    """How many files the OS's loader lists for a program."""
    listed = subprocess.run(["ldd", path], capture_output=True, text=True, check=False).stdout
    return listed.count("=> /")


if __name__ == "__main__":
    main()
