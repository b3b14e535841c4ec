"""Read a large log for its decisive line: the built command's time and memory, beside counting its lines.

Usage: python benchmarks/clues.py [MiB] [runs]. Budget: 1 GiB in under 25 s, under 100 MB.
Then: how long after it is written a decisive line is called out by --follow; budget half a second.
"""

import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SIZE = int(sys.argv[1]) << 20 if len(sys.argv) > 1 else 1 << 30
RUNS = int(sys.argv[2]) if len(sys.argv) > 2 else 3  # noqa: PLR2004 - the words of the command line
COMMAND = Path(sys.executable).parent / "fundamen"
LINES = (
    "{t} INFO  tideserver.http - GET /berths/{n} 200 {m} ms",
    "{t} DEBUG tideserver.cache - {w} {w} hit for key {h}",
    "{t} INFO  tideserver.gauge - station {n} reports {w} {m}.{n} m",
    "{t} WARN  tideserver.http - slow request {n}: {w} took {m} ms",
    "{t} DEBUG tideserver.pool - worker {n} idle, {m} queued, address 0x{h}",
    "{t} INFO  tideserver.module - configuration of module {w} loaded from /opt/tidebook/etc/{w}.conf",
    "{t} DEBUG tideserver.cache - item {h} not found in cache, reading it",
)
WORDS = ("berth", "tide", "gauge", "depth", "station", "update", "queue", "user", "vessel", "quay", "slot", "session")
DECISIVE = (
    "{t} ERROR tidebook: error while loading shared libraries: libtide.so.2: cannot open shared object file: "
    "No such file or directory\n{t} ERROR tideserver: tidebook exited with status 127\n"
)


def write_log(path: Path) -> None:
    """A log of healthy lines that differ, with one cause near its end."""
    source = random.Random(4)  # noqa: S311 - made-up lines
    lines = [
        source.choice(LINES).format(
            t=f"2026-11-28 {n // 3_600_000 % 24:02d}:{n // 60_000 % 60:02d}:{n // 1000 % 60:02d}.{n % 1000:03d}",
            n=source.randrange(256),
            m=source.randrange(9999),
            h=f"{source.getrandbits(40):010x}",
            w=source.choice(WORDS),
        )
        for n in range(500_000)
    ]
    block = ("\n".join(lines) + "\n").encode()
    with path.open("wb") as file:
        while file.tell() < SIZE:
            file.write(block)
        file.write(DECISIVE.format(t="2026-11-28 23:59:59.999").encode())


def memory_of(process: int) -> int:
    """KiB that a process and those that it has started hold, shared pages counted by their share."""
    total = 0
    children = Path(f"/proc/{process}/task/{process}/children")
    for each in [str(process), *(children.read_text().split() if children.exists() else [])]:
        try:
            text = Path(f"/proc/{each}/smaps_rollup").read_text()
        except OSError:
            continue
        total += sum(int(line.split()[1]) for line in text.splitlines() if line.startswith("Pss:"))
    return total


def read_once(path: Path) -> tuple[float, int]:
    """Seconds, and the most memory in KiB."""
    begin, most = time.perf_counter(), 0
    with subprocess.Popen([COMMAND, "clues", "--only-read", path], stdout=subprocess.PIPE) as process:
        while process.poll() is None:
            most = max(most, memory_of(process.pid))
            time.sleep(0.05)
        took = time.perf_counter() - begin
        out = process.stdout.read().decode() if process.stdout else ""
    assert out.startswith("The loader finds the library libtide.so.2"), out  # noqa: S101 - nothing was measured
    return took, most


def called_out_after(folder: Path, number: int) -> float:
    """Seconds from a line's being written to its being called out."""
    path = folder / f"followed-{number}.log"
    with subprocess.Popen(
        [COMMAND, "clues", "--only-read", "--follow", "--until", "127", path],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    ) as process:
        time.sleep(1.5)
        begin = time.perf_counter()
        path.write_text(DECISIVE.format(t="09:00:00").replace("127", "1"))
        if process.stdout is not None:
            process.stdout.readline()
        took = time.perf_counter() - begin
        with path.open("a") as file:
            file.write("status 127\n")
        process.communicate(timeout=30)
    return took


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_FOLDER")) as name:
        folder = Path(name)
        path = folder / "large.log"
        write_log(path)
        path.read_bytes()[:1]  # warm
        times, memories, counted = [], [], []
        for _ in range(RUNS):
            begin = time.perf_counter()
            subprocess.run(["wc", "-l", path], check=True, stdout=subprocess.DEVNULL)
            counted.append(time.perf_counter() - begin)
            took, memory = read_once(path)
            times.append(took)
            memories.append(memory)
        size = path.stat().st_size
        print(
            f"{size >> 20} MiB: {statistics.median(times):.1f} s ({min(times):.1f} to {max(times):.1f}), "
            f"{(size >> 20) / statistics.median(times):.0f} MiB/s, {max(memories) >> 10} MiB; "
            f"wc -l {statistics.median(counted):.1f} s"
        )
        waits = [called_out_after(folder, number) for number in range(5)]
        print(f"called out after {statistics.median(waits):.2f} s ({min(waits):.2f} to {max(waits):.2f})")


if __name__ == "__main__":
    main()
