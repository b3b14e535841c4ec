"""Measure one call that traces all programs below /usr against the OS's loader listing them one after another.

Both run turn by turn; the loader is started for each program by a shell's loop, which is its quickest way. Prints the
median of the ratios with their quartiles, and how the memory grows with the number of programs.
Run: python benchmarks/all_programs.py [PAIRS]
"""

import compileall
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from fundamen.formats.unix.elf import MAGIC, read_elf
from fundamen.machine.file_bytes import FileBytes
from fundamen.model.binary import BinaryKind
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath

PAIRS = int(sys.argv[1]) if len(sys.argv) > 1 else 9
FUNDAMEN = str(Path(sys.executable).parent / "fundamen")
LISTING = 'while read -r program; do LD_TRACE_LOADED_OBJECTS=1 "$program" </dev/null >/dev/null 2>&1; done <"$1"; true'


def main() -> None:
    """Measure both."""
    compileall.compile_dir(Path(__file__).parent.parent / "src", quiet=1)
    programs, _ = binaries_below("/usr")
    with tempfile.TemporaryDirectory() as folder:
        listed = Path(folder, "programs")
        listed.write_text("\n".join(programs) + "\n")
        tracing = [FUNDAMEN, "trace", "--json", "--only-find", *programs]
        proving = [FUNDAMEN, "trace", "--json", *programs]
        listing = ["bash", "-c", LISTING, "bash", str(listed)]
        for command in (tracing, listing):
            seconds(command)
        ratios = [seconds(tracing) / seconds(listing) for _ in range(PAIRS)]
        low, middle, high = statistics.quantiles(ratios, n=4)
        print(f"{len(programs)} programs in one call: {middle:.2f} x the loader's own listing", end=" ")
        print(f"(quartiles {low:.2f} to {high:.2f}); budget 1")
        print(f"with every file's digest compared as well: {seconds(proving) / seconds(listing):.1f} x")
        for count in (len(programs) // 4, len(programs), len(programs) * 4):
            chosen = (programs * 4)[:count]
            print(f"memory for {count} programs: {memory([FUNDAMEN, 'trace', '--json', '--only-find', *chosen])} MiB")


def seconds(command: list[str]) -> float:
    """How long a command takes as a whole process."""
    began = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began


def memory(command: list[str]) -> int:
    """The most memory that a command has held, in MiB."""
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
    return used.ru_maxrss >> 10


def binaries_below(root: str) -> tuple[list[str], list[str]]:
    """The dynamic programs and the libraries of this host's own architecture."""
    own = platform_of(os.path.realpath(sys.executable))
    programs, libraries = [], []
    for folder, _, names in os.walk(root):
        for name in names:
            path = os.path.join(folder, name)
            if os.path.islink(path) or not os.path.isfile(path):
                continue
            if os.access(path, os.X_OK) and platform_of(path) == own:
                programs.append(path)
            elif ".so" in name and platform_of(path, BinaryKind.LIBRARY) == own:
                libraries.append(path)
    return sorted(programs), sorted(libraries)


def platform_of(path: str, kind: BinaryKind = BinaryKind.PROGRAM) -> int:
    """The e_machine of a dynamic program or library; 0 for anything else."""
    try:
        with FileBytes(HostPath(path), path) as source:
            if source.read_at(0, 4) != MAGIC:
                return 0
            elf = read_elf(source)
    except (OSError, UnreadableError):
        return 0
    return elf.machine if elf.kind is kind and (elf.interpreter or kind is not BinaryKind.PROGRAM) else 0


if __name__ == "__main__":
    main()
