"""How fast many files, or large ones, are restored, against copying and hashing them with the standard library alone.

Run: python benchmarks/restoration.py [FILES SIZE [RUNS]], such as 20000 4096, or 160 33554432 for 5 GiB. Both sides get
the same files in a folder of the same disk; the library alone copies each and takes the SHA-256 of the copy, flushing
nothing. A restoration writes all steps into its journal, stages, flushes, reads back, swaps in. Nothing stood in the
places before. Budget: at least 0.7 of the library's speed; memory is printed too.
"""

import hashlib
import os
import resource
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from fundamen.changes.base import Site, Work
from fundamen.changes.files import Change
from fundamen.execution.carrying_out import carry_out
from fundamen.execution.journal import Journal
from fundamen.machine.opening import open_machine
from fundamen.model.paths import HostPath, MachinePath


def make_contents(folder: Path, count: int, size: int) -> dict[str, HostPath]:
    """The new contents, by their digest."""
    folder.mkdir()
    block, contents = os.urandom(1 << 20), {}
    for number in range(count):
        data = number.to_bytes(8, "big") + (block * (size // len(block) + 1))[: size - 8]
        digest = hashlib.sha256(data).hexdigest()
        (folder / digest).write_bytes(data)
        contents[digest] = HostPath(str(folder / digest))
    return contents


def time_run(run: Callable[[], object]) -> float:
    """How many seconds something takes, once all that was written before is on the disk."""
    os.sync()
    begun = time.monotonic()
    run()
    return time.monotonic() - begun


def library_alone(contents: dict[str, HostPath], target: Path) -> None:
    """Copy and hash each."""
    for number, (digest, content) in enumerate(contents.items()):
        place = target / f"{number // 200}" / f"lib{number}.so"
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(content, place)
        with place.open("rb") as file:
            if hashlib.file_digest(file, "sha256").hexdigest() != digest:
                raise AssertionError(place)


def restore_each(contents: dict[str, HostPath], root: Path, size: int) -> None:
    """Restore each."""
    for folder in ("etc", "usr/lib"):
        (root / folder).mkdir(parents=True)
    steps = tuple(
        Change(path=MachinePath(f"/opt/{n // 200}/lib{n}.so"), because="missing", sha256=digest, size=size)
        for n, digest in enumerate(contents)
    )
    work = Work(MachinePath("/opt/app"), ("it",), steps, contents)
    machine = open_machine(str(root), environment={})
    journal = Journal(Site(machine, HostPath(str(root.parent / "journal"))))
    carry_out(machine, work, journal, datetime.now(UTC))


def main() -> None:
    """Measure turn by turn, and print the ratios."""
    count, size, runs = (int(each) for each in (*sys.argv[1:4], *("20000", "4096", "5")[len(sys.argv) - 1 :]))
    ratios = []
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_FOLDER")) as folder:
        contents = make_contents(Path(folder) / "new", count, size)
        for _ in range(runs):
            alone, ours = Path(folder) / "alone", Path(folder) / "ours" / "root"
            library = time_run(lambda alone=alone: library_alone(contents, alone))  # type: ignore[misc]
            own = time_run(lambda ours=ours: restore_each(contents, ours, size))  # type: ignore[misc]
            ratios.append(library / own)
            print(f"library alone {library:.2f} s, restored {own:.2f} s: {library / own:.2f} of its speed", flush=True)
            shutil.rmtree(alone)
            shutil.rmtree(ours.parent)
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    print(f"{count} files of {size} bytes: median {statistics.median(ratios):.2f}; {memory} MiB")


main()
