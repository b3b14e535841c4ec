"""How answers grow with their questions: twice as large, about twice as long.

Run: python benchmarks/growth.py. It makes machines and logs in a temporary folder and runs the command on them, as its
own process. Budget: the larger takes at most 2.6 times as long as the smaller, and under two seconds on two quiet
cores; of needs by run paths, whose places are four times as many, 4.5 times.
"""

import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from builders.elf import an_elf
from builders.machine import ALinuxMachine


def needs_by_folders(folder: Path, count: int) -> list[str]:
    """As many needs as folders in which they are looked for."""
    linux = ALinuxMachine(folder)
    places = [f"/o/{number}" for number in range(count)]
    for place in places:
        (linux.root / place.lstrip("/")).mkdir(parents=True)
    linux.program("/opt/p", needs=[f"lib{number}.so" for number in range(count)], runpath=":".join(places))
    return ["trace", "-m", str(linux.root), "/opt/p"]


def needs(folder: Path, count: int) -> list[str]:
    """Needs that are all met."""
    linux = ALinuxMachine(folder)
    names = [f"lib{number}.so" for number in range(count)]
    linux.program("/opt/p", needs=names, runpath="/opt/lib")
    for name in names:
        linux.file(f"/opt/lib/{name}", an_elf(soname=name))
    return ["trace", "-m", str(linux.root), "/opt/p"]


def missing_needs(folder: Path, count: int) -> list[str]:
    """Needs none of which is there."""
    linux = ALinuxMachine(folder)
    linux.program("/opt/p", needs=[f"lib{number}.so" for number in range(count)], runpath="/opt/lib")
    return ["trace", "-m", str(linux.root), "/opt/p"]


def undefined_references(folder: Path, count: int) -> list[str]:
    """A failing link step."""
    lines = [f"main.c:(.text+0x{n:x}): undefined reference to `tide_{n}'" for n in range(count)]
    folder.mkdir()
    (folder / "log").write_text("\n".join(lines) + "\ncollect2: error: ld returned 1 exit status\n")
    return ["build", str(folder / "log")]


def named_libraries(folder: Path, count: int) -> list[str]:
    """A log that names libraries which are not here."""
    text = "./tide: error while loading shared libraries: libtide{}.so.4: cannot open shared object file: No such\n"
    folder.mkdir()
    (folder / "log").write_text("".join(text.format(number) for number in range(count)))
    return ["clues", str(folder / "log")]


CASES: dict[str, tuple[Callable[[Path, int], list[str]], int]] = {
    "needs by run paths": (needs_by_folders, 300),
    "needs that are met": (needs, 4000),
    "needs that are missing": (missing_needs, 4000),
    "undefined references": (undefined_references, 500),
    "libraries named in a log": (named_libraries, 125),
}


def main() -> None:
    """Measure each at its size and at twice that."""
    for name, (make, size) in CASES.items():
        with tempfile.TemporaryDirectory() as folder:
            seconds = []
            for count in (size, 2 * size):
                words = make(Path(folder) / str(count), count)
                best = float("inf")
                for _ in range(3):
                    begun = time.monotonic()
                    environment = {**os.environ, "FUNDAMEN_HOME": f"{folder}/home"}
                    command = [sys.executable, "-m", "fundamen", *words]
                    subprocess.run(command, env=environment, capture_output=True, check=False)
                    best = min(best, time.monotonic() - begun)
                seconds.append(best)
        small, large = seconds
        print(f"{name}: {size} in {small:.2f} s, {2 * size} in {large:.2f} s: {large / small:.2f}")
    print(f"{resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10} MiB")


main()
