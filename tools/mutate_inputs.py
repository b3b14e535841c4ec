"""Feed the readers mutated files: each must answer or refuse, within a second of work, and without a jump in memory.

Run: python tools/mutate_inputs.py [MUTATIONS [SEED]]. What breaks a reader is saved and named, with its seed.
"""

import random
import resource
import sys
import tempfile
import time
from pathlib import Path

from fundamen.model.errors import FundamenError
from hostile_inputs import inputs

MOST_SECONDS = 1.0
MOST_MEMORY = 512 << 20  # bytes, of the whole process
NUMBERS = (b"\0", b"\xff", b"\x7f\xff\xff\xff", b"\xff" * 8, b"\x80" + b"\0" * 7, b"\1\0\0\0", b"\0" * 8)


def mutate(data: bytes, chance: random.Random) -> bytes:
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
        changed = mutate(data, chance)
        began = time.process_time()
        try:
            reader(changed)
        except FundamenError:
            pass
        except Exception as error:  # noqa: BLE001 - whatever else comes out is what we are looking for
            failures += 1
            kept = Path(tempfile.gettempdir()) / f"mutation-{seed}"
            kept.write_bytes(changed)
            print(f"seed {seed} ({name}): {type(error).__name__}: {error}; kept as {kept}")
        took = time.process_time() - began
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
