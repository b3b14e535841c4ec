"""Measure what issue lines ask of Windows volumes: a program that needs 150 of 400 libraries, and 50,000 exports.

The command is timed as a whole process, turn by turn with ``python -c "import click"``; its memory is that of the
process. Run: python benchmarks/windows_volume.py [PAIRS]
"""

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from builders.machine import AWindowsMachine
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import read_pe
from fundamen.formats.windows.pe_exports import read_exports

PAIRS = int(sys.argv[1]) if len(sys.argv) > 1 else 9
FUNDAMEN = str(Path(sys.executable).parent / "fundamen")
YARDSTICK = [sys.executable, "-c", "import click"]
LIBRARIES, NEEDED, EXPORTS = 400, 150, 50_000


def main() -> None:
    """Measure both."""
    with tempfile.TemporaryDirectory() as folder:
        volume(Path(folder))
        command = [FUNDAMEN, "trace", "--json", "--machine", folder, "C:\\App\\app.exe"]
        pairs = [(seconds(command), seconds(YARDSTICK)) for _ in range(PAIRS)]
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10
    took = statistics.median(mine for mine, _ in pairs)
    ratio = statistics.median(mine / other for mine, other in pairs)
    print(f"trace, {NEEDED} of {LIBRARIES} libraries: {took:.2f} s, {ratio:.1f} x import click; budget 1.5 s")
    print(f"its memory at most: {peak} MiB; budget 150 MiB")
    print(f"{EXPORTS} exports read in {exports():.3f} s; budget 0.1 s")


def volume(root: Path) -> None:
    """A folder with all libraries; each needed one calls a function of the next two."""
    machine = AWindowsMachine(root).system()
    names = [f"lib{number}.dll" for number in range(LIBRARIES)]
    for number, name in enumerate(names):
        further = names[number + 1 : number + 3] if number < NEEDED - 2 else []
        exported = [f"call{index}" for index in range(40)]
        machine.library(f"C:\\App\\{name}", needs=dict.fromkeys(further, ("call1", "call7")), exports=exported)
    machine.program("C:\\App\\app.exe", needs=dict.fromkeys(names[:2], ("call0",)))


def seconds(command: list[str]) -> float:
    """How long a command takes."""
    began = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True, env=os.environ)
    return time.perf_counter() - began


def exports() -> float:
    """How long the export table of one large library takes, read again each time."""
    folder = Path(tempfile.mkdtemp())
    AWindowsMachine(folder).library("C:\\big.dll", exports=[f"function_{number:05}" for number in range(EXPORTS)])
    source = MemoryBytes((folder / "big.dll").read_bytes())
    times = []
    for _ in range(PAIRS):
        began = time.perf_counter()
        table = read_exports(source, read_pe(source))
        times.append(time.perf_counter() - began)
        if table.index_of(f"function_{EXPORTS - 1:05}", None) is None:
            raise SystemExit("the last export was not read")
    return statistics.median(times)


if __name__ == "__main__":
    main()
