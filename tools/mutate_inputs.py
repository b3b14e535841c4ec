"""Feed the readers mutated files: each must answer or refuse, within a second, and without a jump in memory.

Run: python tools/mutate_inputs.py [MUTATIONS [SEED]]. What breaks a reader is saved and named, with its seed.
"""

import random
import resource
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from fundamen.demo.world import BINARIES
from fundamen.formats.api_set import read_api_sets
from fundamen.formats.binary import read_binary
from fundamen.formats.cursor import MemoryBytes
from fundamen.formats.elf import Elf
from fundamen.formats.elf_symbols import read_exports as read_elf_exports
from fundamen.formats.ld_cache import read_ld_cache
from fundamen.formats.pe import Pe
from fundamen.formats.pe_exports import read_exports as read_pe_exports
from fundamen.formats.pe_imports import read_imported_functions
from fundamen.formats.pe_version import read_version
from fundamen.formats.text_hive import TextHive
from fundamen.model.errors import FundamenError

MOST_SECONDS = 1.0
MOST_MEMORY = 512 << 20  # bytes, of the whole process
NUMBERS = (b"\0", b"\xff", b"\x7f\xff\xff\xff", b"\xff" * 8, b"\x80" + b"\0" * 7, b"\1\0\0\0", b"\0" * 8)

HIVE = rb"""WINE REGISTRY Version 2

[Software\\Ardvane] 1
"Parts"=str(7):"core\0tide\0"
"Seal"=hex:01,02,\
  03
"Build"=dword:0000002a
"""
SCHEMA = bytes.fromhex("06000000 60000000 00000000 01000000 1c000000 00000000 1f000000".replace(" ", "")) + bytes(80)


def read_executable(data: bytes) -> None:
    """Everything that is read of a program or library."""
    source = MemoryBytes(data)
    binary = read_binary(source)
    if isinstance(binary, Elf):
        read_elf_exports(source, binary)
    elif isinstance(binary, Pe):
        for reader in (read_pe_exports, read_version):
            try:
                reader(source, binary)
            except FundamenError:
                continue
        for library in binary.imports[:20]:
            read_imported_functions(source, binary, library)


def read_hive(data: bytes) -> None:
    """A text hive and all that is in it."""
    hive = TextHive(data)
    for key in hive.subkeys("Software"):
        hive.values(f"Software\\{key}")


def inputs() -> list[tuple[str, bytes, Callable[[bytes], object]]]:
    """(name, bytes, reader) for every kind of file."""
    found: list[tuple[str, bytes, Callable[[bytes], object]]] = [
        (f"{path.parent.name}/{path.name}", path.read_bytes(), read_executable) for path in sorted(BINARIES.glob("*/*"))
    ]
    found += [("a text hive", HIVE, read_hive), ("an API set schema", SCHEMA, read_api_sets)]
    cache = Path("/etc/ld.so.cache")
    if cache.exists():
        found.append(("ld.so.cache", cache.read_bytes(), lambda data: read_ld_cache(MemoryBytes(data))))
    return found


def mutated(data: bytes, chance: random.Random) -> bytes:
    """A file with a few places changed, most of them where the headers are, and perhaps cut."""
    changed = bytearray(data)
    for _ in range(chance.choice((1, 1, 2, 4, 16))):
        at = chance.randrange(min(len(changed), chance.choice((64, 512, len(changed)))))
        piece = chance.choice((*NUMBERS, chance.randbytes(4)))
        changed[at : at + len(piece)] = piece
    if chance.random() < 0.2:  # noqa: PLR2004 - every fifth file is cut as well
        del changed[chance.randrange(len(changed)) :]
    return bytes(changed)


def main(count: int, first_seed: int) -> int:
    """Try them all; give the number of failures."""
    kinds = inputs()
    failures, slowest = 0, 0.0
    for seed in range(first_seed, first_seed + count):
        chance = random.Random(seed)  # noqa: S311 - repeatable is the point
        name, data, reader = chance.choice(kinds)
        changed = mutated(data, chance)
        began = time.perf_counter()
        try:
            reader(changed)
        except FundamenError:
            pass
        except Exception as error:  # noqa: BLE001 - whatever else comes out is what we are looking for
            failures += 1
            kept = Path(tempfile.gettempdir()) / f"mutation-{seed}"
            kept.write_bytes(changed)
            print(f"seed {seed} ({name}): {type(error).__name__}: {error}; kept as {kept}")
        took = time.perf_counter() - began
        slowest = max(slowest, took)
        if took > MOST_SECONDS:
            failures += 1
            print(f"seed {seed} ({name}): took {took:.1f} s")
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10
    failures += memory > MOST_MEMORY
    print(f"{count} mutations, {failures} failures; slowest {slowest:.3f} s; memory at most {memory >> 20} MiB")
    return failures


if __name__ == "__main__":
    numbers = [int(word) for word in sys.argv[1:3]]
    sys.exit(main(*(numbers + [50_000, 1][len(numbers) :])) > 0)
