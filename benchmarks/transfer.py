"""How fast a large file is fetched from a served source, against what the HTTP library alone reaches with a digest.

Run: python benchmarks/transfer.py [MIB [RUNS]]. The server runs in a process of its own on this host; the library alone
reads the same file, takes its SHA-256 and writes it to the same disk, but flushes nothing and checks nothing else.
Budget: at least 0.8 of the library's rate, and less than 150 MB of memory.
"""

import hashlib
import multiprocessing
import os
import resource
import ssl
import statistics
import sys
import tempfile
import time
from multiprocessing.connection import Connection
from pathlib import Path

import urllib3

from fundamen.demo.stand_in import StandIn
from fundamen.model.package import Base, PackageFile
from fundamen.model.paths import HostPath
from fundamen.sources.fetching import fetch_file
from fundamen.sources.layout import content_place
from fundamen.sources.location import open_place

_PIECE = 1 << 18


def serve(folder: str, ready: Connection) -> None:
    """Serve a folder until the process is ended."""
    with StandIn(Path(folder)) as server:
        ready.send((server.address, server.authority))
        ready.recv()


def library_alone(address: str, authority: str, target: Path) -> str:
    """Fetch with the HTTP library, and give the digest."""
    context = ssl.create_default_context(cadata=authority)
    state = hashlib.sha256()
    with urllib3.PoolManager(ssl_context=context) as pool, target.open("wb") as file:
        response = pool.request("GET", address, preload_content=False)
        for piece in response.stream(_PIECE):
            state.update(piece)
            file.write(piece)
    return state.hexdigest()


def make_file(folder: Path, size: int) -> PackageFile:
    """A file of a source with content that does not compress."""
    state = hashlib.sha256()
    block = os.urandom(1 << 20)
    part = folder / "part"
    with part.open("wb") as file:
        for number in range(size >> 20):
            data = number.to_bytes(8, "big") + block[8:]
            state.update(data)
            file.write(data)
    target = folder.joinpath(*content_place(state.hexdigest()).split("/"))
    target.parent.mkdir(parents=True)
    part.rename(target)
    return PackageFile("large.bin", Base.ROOT, "large.bin", size, state.hexdigest())


def main() -> None:
    """Measure both in turn, and print the ratio of the medians."""
    mebibytes, runs = (int(word) for word in (*sys.argv[1:], *("1024", "3")[len(sys.argv) - 1 :]))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "source").mkdir()
        file = make_file(folder / "source", mebibytes << 20)
        here, there = multiprocessing.Pipe()
        server = multiprocessing.get_context("spawn").Process(target=serve, args=(str(folder / "source"), there))
        server.start()
        address, authority = here.recv()
        relative = content_place(file.sha256)
        ours: list[float] = []
        alone: list[float] = []
        for _ in range(runs):
            for seconds, fetch in ((alone, "library"), (ours, "fundamen")):
                target = folder / "fetched"
                begun = time.perf_counter()
                if fetch == "library":
                    if library_alone(f"{address}/{relative}", authority, target) != file.sha256:
                        sys.exit("the library alone did not fetch the file")
                else:
                    places = [(open_place(address, authority), relative)]
                    fetch_file("it", places, file, HostPath(str(target)), lambda _count: None)
                seconds.append(time.perf_counter() - begun)
                target.unlink()
        server.terminate()
    rate, library = (mebibytes / statistics.median(seconds) for seconds in (ours, alone))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    print(f"{mebibytes} MiB over HTTPS: {rate:.0f} MiB/s, the library alone {library:.0f} MiB/s:", end=" ")
    print(f"ratio {rate / library:.2f} (budget 0.8)")
    print(f"memory at most {memory} MiB")


if __name__ == "__main__":
    main()
