"""Inspect mutated files in batches of a hundred: every batch must be answered in full, in time and in little memory.

Run: python tools/mutate_batches.py [FILES_OF_EACH_FORMAT [FORMAT ...]].
"""

import json
import os
import random
import sys
import tempfile
import time
from itertools import cycle, islice
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from builders.machine import ALinuxMachine
from command import Server, serving
from hostile_inputs import inputs
from mutate_inputs import mutate

BATCH = 100
MOST_SECONDS, MOST_MEMORY, BUG = 10.0, 200 << 10, 70  # KiB
FORMATS = {
    "ELF": ("linux-",),
    "PE": (
        "windows-",
        "a managed image",
        "a version resource",
        "a manifest inside",
        "arm64",
        "managed.exe",
        "a signed program",
    ),
    "Mach-O": ("macos-", "libsaltmac"),
    "Java": ("classes of Java", "a class file"),
    "install package": ("a cabinet", "a package", "an install package", "a signed cabinet"),
    "certificate": ("a certificate", "certificates", "a PKCS", "a Java keystore"),
}


def seeds(names: tuple[str, ...]) -> list[bytes]:
    """The sound inputs of a format."""
    return [data for name, data, _ in inputs() if name.startswith(names)]


def main(count: int, formats: list[str]) -> int:
    """Inspect them all; give the number of batches that failed."""
    failed = 0
    with serving() as server, tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        for name in formats:
            failed += inspect_format(server, Path(folder), name, count)
    return failed


def inspect_format(server: Server, folder: Path, name: str, count: int) -> int:
    """Inspect the files of one format, and print what came of it."""
    environment = {**os.environ, "FUNDAMEN_HOME": str(folder / "home")}
    sound = seeds(FORMATS[name])
    failed, slowest, peak, worst = 0, 0.0, 0, 0
    machine = ALinuxMachine(folder / "machine")  # one with no records of packages, which would take most of the time
    paths = [machine.root / str(number) for number in range(BATCH)]
    asked = ("inspect", "--json", "--machine", str(machine.root), *(f"/{path.name}" for path in paths))
    for batch in range(0, count, BATCH):
        chance = random.Random(f"{name} {batch}")  # noqa: S311 - repeatable is the point
        for path, data in zip(paths, islice(cycle(sound), batch, None), strict=False):
            path.write_bytes(mutate(data, chance))
        began = time.perf_counter()
        ran = server.run(asked, environment, folder)
        took = time.perf_counter() - began
        answered = [json.loads(line)["path"] for line in ran.out.splitlines()]
        is_good = answered == [f"/{path.name}" for path in paths] and ran.status != BUG and took < MOST_SECONDS
        if not (is_good and ran.peak < MOST_MEMORY):
            failed += 1
            what = f"{len(answered)} answers, status {ran.status}, {took:.1f} s, {ran.peak} KiB"
            print(f"{name}, batch {batch // BATCH}: {what}")
            print(ran.err[-2000:])
        slowest, peak, worst = max(slowest, took), max(peak, ran.peak), max(worst, ran.status)
    print(
        f"{name}: {count} files of {len(sound)} kinds, {failed} batches failed; slowest batch {slowest:.2f} s,"
        f" memory at most {peak >> 10} MiB, worst status {worst}",
        flush=True,
    )
    return failed


if __name__ == "__main__":
    number, *chosen = [*sys.argv[1:], *["2000"][len(sys.argv) - 1 :]]
    sys.exit(main(int(number), chosen or list(FORMATS)) > 0)
