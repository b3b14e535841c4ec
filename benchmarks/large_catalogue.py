"""A catalogue of very many packages: signing, bringing in, and looking one component up, warm.

Run: python benchmarks/large_catalogue.py [PACKAGES [FILES]]. The files of the packages are only described.
Budget: a lookup in less than 0.2 s, in a process that has the modules already and an index that was read before.
"""

import hashlib
import multiprocessing
import statistics
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from fundamen.model.architecture import Architecture, Platform
from fundamen.model.package import Base, Package, PackageFile
from fundamen.model.paths import HostPath
from fundamen.sources.offers import find_offers
from fundamen.sources.repository import Repository
from fundamen.sources.store import SourceStore

LOOKUPS = 50


def packages(count: int, files: int) -> Iterator[Package]:
    """Packages with files of their own, and one that every tenth has."""
    for number in range(count):
        names = [f"lib{number}-{file}.so.{file % 9}" for file in range(files - 1)] + [f"libshared{number % 10}.so.1"]
        yield Package(
            "Ardvane Instruments",
            f"package-{number}",
            f"{number % 7}.{number % 5}.{number % 3}",
            Platform.LINUX,
            Architecture.X86_64,
            tuple(
                PackageFile(name, Base.ROOT, f"usr/lib/{name}", 4096, hashlib.sha256(name.encode()).hexdigest())
                for name in names
            ),
        )


def technician(source: HostPath, fingerprint: str, home: str, count: int, files: int) -> None:
    """Trust the source, prove it again, and look components up."""
    now = datetime.now(UTC)
    store = SourceStore(HostPath(home))
    begun = time.perf_counter()
    catalogue = store.trust(source, fingerprint, "it", now)
    trusted = time.perf_counter() - begun
    begun = time.perf_counter()
    store.refresh(catalogue.source)
    refreshed = time.perf_counter() - begun
    seconds = []
    for number in range(LOOKUPS):
        wanted = f"lib{number * (count // LOOKUPS)}-{number % (files - 1)}.so.{number % (files - 1) % 9}"
        begun = time.perf_counter()
        found = find_offers(store.catalogues(), [wanted], Platform.LINUX, Architecture.X86_64)
        seconds.append(time.perf_counter() - begun)
        if len(found) != 1:
            sys.exit(f"{wanted}: {len(found)} offers")
    # Not ru_maxrss, which a process takes over from the one that started it.
    peak = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM"))
    memory = int(peak.split()[1]) >> 10
    print(f"brought in and indexed in {trusted:.1f} s, proven again in {refreshed:.2f} s; memory at most {memory} MiB")
    print(f"a lookup takes {statistics.median(seconds):.4f} s, at most {max(seconds):.4f} s (budget 0.2)")


def main() -> None:
    """Measure each part."""
    count, files = (int(word) for word in (*sys.argv[1:], *("20000", "50")[len(sys.argv) - 1 :]))
    now = datetime.now(UTC)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        source, keys = HostPath(str(folder / "source")), HostPath(str(folder / "keys"))
        begun = time.perf_counter()
        repository = Repository(source, [keys], now + timedelta(days=30))
        repository.add(*packages(count, files))
        signed = time.perf_counter() - begun
        begun = time.perf_counter()
        repository.add(next(packages(1, files)))
        one_more = time.perf_counter() - begun
        client = multiprocessing.get_context("spawn").Process(
            target=technician, args=(source, repository.fingerprint(), str(folder / "home"), count, files)
        )
        print(f"{count} packages, {count * files} files, signed in {signed:.1f} s, one more in {one_more:.2f} s")
        client.start()
        client.join()
        size = sum(path.stat().st_size for path in (folder / "source").rglob("*") if path.is_file())
        print(f"{size >> 20} MiB to serve")


if __name__ == "__main__":
    main()
