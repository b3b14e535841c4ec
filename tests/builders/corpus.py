"""The corpus: what failing tools say, with the line that decides and what it names, as a person judges it.

provoked.txt is written by tools/provoke_failures.py; further.txt was provoked likewise once the knowledge was written,
to see how it does on what it was not made for (0.74 and 0.79 of the lines were right then); made-up.txt is made up.
"""

import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

FOLDER = Path(__file__).parent.parent / "clues" / "corpus"


class Case(NamedTuple):
    """One text, and what must be found in it."""

    name: str
    text: str
    decides: str  # a piece of the line that decides
    component: str
    architecture: str

    @property
    def line(self) -> int:
        """The number of the line that decides."""
        return next(number for number, line in enumerate(self.text.split("\n"), 1) if self.decides in line)


def cases() -> Iterator[Case]:
    """All cases of the corpus."""
    for path in sorted(FOLDER.glob("*.txt")):
        for part in re.split(r"^==== ", path.read_text(), flags=re.MULTILINE)[1:]:
            head, _, text = part.partition("\n----\n")
            name, *fields = head.split("\n")
            said = dict(field.split(": ", 1) for field in fields)
            yield Case(name, text, said["decides"], said.get("component", ""), said.get("architecture", ""))
