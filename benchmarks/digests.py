"""Measure the digests of everything installed: a comparison against the same digests by the system's own tools.

A tool is given the same files, each once, shared out to as many of its processes as there are processors; it only
reads and computes. What the processor can do at most, of bytes that lie in memory already, is reported besides: of MD5,
which dpkg records, and of SHA-256. Run: python benchmarks/digests.py [PAIRS]
"""

import compileall
import contextlib
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from fundamen.evidence.dpkg_files import Records
from fundamen.machine.opening import open_machine
from survey import COMPARE

PAIRS = int(sys.argv[1]) if len(sys.argv) > 1 else 5
CORES = os.cpu_count() or 1
IN_MEMORY = """
import hashlib, sys
state, piece = hashlib.new(sys.argv[1]), bytes(1 << 20)
for _ in range(int(sys.argv[2]) >> 20):
    state.update(piece)
"""
TOOLS = (["openssl", "dgst", "-md5"], ["md5sum"], ["openssl", "dgst", "-sha256"], ["sha256sum"])
PLAIN = {"OPENSSL_ia32cap": "~0x0:~0x20000000"}  # without x86's instructions for SHA: OPENSSL_ia32cap(3)
A_FILE = 15_000  # bytes that a file counts for besides


def main() -> None:
    """Measure all, turn by turn."""
    compileall.compile_dir(Path(__file__).parent.parent / "src", quiet=1)
    with tempfile.TemporaryDirectory() as folder:
        files = installed_files()
        size = sum(files.values())
        shares = shared_out(files, Path(folder))
        turns: dict[str, Callable[[], float]] = {
            f"{' '.join(tool)}, of the same files": partial(by_tool, tool, shares)
            for tool in TOOLS
            if shutil.which(tool[0])
        }
        turns["MD5 in memory"] = lambda: in_memory("md5", size, {})
        turns["SHA-256 in memory"] = lambda: in_memory("sha256", size, {})
        turns["SHA-256 in memory, without instructions for it"] = lambda: in_memory("sha256", size, PLAIN)
        ratios: dict[str, list[float]] = {what: [] for what in turns}
        ours = []
        for _ in range(PAIRS):
            compared = together([[sys.executable, "-c", COMPARE]])
            ours.append(compared)
            for what, turn in turns.items():
                ratios[what].append(turn() / compared)
    print(f"{len(files)} files of {size >> 20} MiB on {CORES} cores: {statistics.median(ours):.1f} s")
    print("the speed of the comparison, which finds out and remembers as well, against that of (0.9 is asked):")
    for what, seen in ratios.items():
        print(f"  {what}: {statistics.median(seen):.2f} ({min(seen):.2f} to {max(seen):.2f})")


def installed_files() -> dict[str, int]:
    """The size of every file of which a digest is recorded; a file of several names has one here."""
    records = Records(open_machine(None))
    files: dict[tuple[int, int], tuple[str, int]] = {}
    for package in records.packages:
        for file in records.files(package):
            if file.md5 and os.path.isfile(file.path):
                status = os.stat(file.path)
                files[status.st_dev, status.st_ino] = (file.path, status.st_size)
    return dict(files.values())


def shared_out(files: dict[str, int], folder: Path) -> list[Path]:
    """As many lists of files, of about the same work, as there are processors."""
    shares: list[list[str]] = [[] for _ in range(CORES)]
    weights = [0] * CORES
    for path in sorted(files, key=files.__getitem__, reverse=True):
        lightest = weights.index(min(weights))
        shares[lightest].append(path)
        weights[lightest] += files[path] + A_FILE
    lists = [folder / str(place) for place in range(CORES)]
    for each_list, share in zip(lists, shares, strict=True):
        each_list.write_bytes(b"".join(os.fsencode(each) + b"\0" for each in sorted(share)))
    return lists


def by_tool(tool: Sequence[str], shares: Sequence[Path]) -> float:
    """How long a tool takes."""
    return together([["xargs", "--null", "--arg-file", str(share), *tool] for share in shares])


def in_memory(algorithm: str, size: int, environment: dict[str, str]) -> float:
    """How long the digest of so many bytes takes that lie in memory."""
    return together([[sys.executable, "-c", IN_MEMORY, algorithm, str(size // CORES)]] * CORES, environment)


def together(commands: Sequence[Sequence[str]], environment: dict[str, str] | None = None) -> float:
    """How long some commands take side by side."""
    environment = os.environ | (environment or {})
    began = time.perf_counter()
    with contextlib.ExitStack() as running:
        for command in commands:
            running.enter_context(subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL))
    return time.perf_counter() - began


if __name__ == "__main__":
    main()
