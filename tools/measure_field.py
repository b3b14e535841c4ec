"""Break real Debian roots as tests/field says, and count causes named, programs mended, and repairs undone.

Run as root: python tools/measure_field.py [--half 0|1|2] [--say] [--base FOLDER] [WORDS_OF_A_NAME ...]. The root is
made in FOLDER where there is none yet. The cases were split at random: half 0 is worked with, half 1 only measured.
2 are those that were made later and worked with.
"""

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from command import Server, serving
from field import Case, NotBrokenError, Outcome, ask, layered, make_base
from field.cases import CASES

MEMORY = Path("/dev/shm")  # noqa: S108 - layers are made there


def main(asked: argparse.Namespace) -> int:
    """Ask about each case, and print what came of it; give the number of cases that were not broken as meant."""
    base = Path(asked.base)
    if not (base / "etc").is_dir():
        make_base(base)
    chosen = [case for case in CASES if asked.half in {None, case.half}]
    chosen = [case for case in chosen if not asked.words or any(word in case.name for word in asked.words)]
    named = mended = mendable = undone = odd = 0
    with serving() as server:
        for case in chosen:
            begun = time.monotonic()
            try:
                outcome = outcome_of(server, base, case)
            except NotBrokenError as error:
                print(f"{case.half} odd                 {case.name}: {error}", flush=True)
                odd += 1
                continue
            named += outcome.is_named
            mendable += case.remedy
            mended += case.remedy and outcome.is_mended
            undone += case.remedy and outcome.is_mended and not outcome.left
            of_remedy = ("mended" if outcome.is_mended else "not mended") if case.remedy else ""
            said = "named" if outcome.is_named else "not named"
            print(f"{case.half} {said:9} {of_remedy:10} {time.monotonic() - begun:5.1f} s  {case.name}", flush=True)
            if outcome.left:
                print(f"      undo leaves {len(outcome.left)}: {', '.join(outcome.left[:6])}")
            if asked.say and not (outcome.is_named and (outcome.is_mended or not case.remedy)):
                tell(case, outcome)
    print(f"{named} of {len(chosen) - odd} named at first answer; {mended} of {mendable} mended, {undone} undone")
    return odd


def outcome_of(server: Server, base: Path, case: Case) -> Outcome:
    """What came of one case, in a root of its own."""
    with tempfile.TemporaryDirectory(dir=MEMORY) as folder, layered(base, Path(folder) / "layers") as root:
        (Path(folder) / "work").mkdir()
        return ask(server, root, case, Path(folder) / "work" / "home")


def tell(case: Case, outcome: Outcome) -> None:
    """Print what was seen."""
    print(f"    $ {case.run}")
    for mark, text in ("|", outcome.symptom), (">", outcome.answer):
        for line in text.splitlines()[:40]:
            print(f"    {mark} {line}")
    for line, status in outcome.pasted:
        print(f"    + {line}   ({status})")


if __name__ == "__main__":
    reading = argparse.ArgumentParser(description=__doc__)
    reading.add_argument("--half", type=int, choices=(0, 1, 2))
    reading.add_argument("--say", action="store_true")
    reading.add_argument("--base", default=os.path.expanduser("~/.cache/fundamen-field/base"))
    reading.add_argument("words", nargs="*")
    sys.exit(min(main(reading.parse_args()), 1))
