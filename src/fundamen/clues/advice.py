"""What follows from a reading: the likely causes in their order, and what to do next."""

import re
import shlex
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.clues.findings import Finding
from fundamen.clues.mentions import Kind
from fundamen.clues.reading import Reading

_HOLE = re.compile(r"\{(\w+)\}")
_FROM_MENTIONS = {"program": Kind.PROGRAM, "component": Kind.COMPONENT, "package": Kind.PACKAGE, "host": Kind.HOST}
_MOST_STEPS = 4


class Likely(msgspec.Struct, frozen=True):
    """A cause that would explain a line."""

    cause: str
    because: str  # whose message or code lets one think of it


def means_of(finding: Finding) -> str:
    """What a finding means, its holes filled; what is not known is told by a plain word."""
    if finding.entry is None:
        return "It complains in words that are not known here."
    return filled(finding.entry.means, finding.holes) or _HOLE.sub(lambda hole: f"the {hole[1]}", finding.entry.means)


def likely_causes(reading: Reading) -> tuple[Likely, ...]:
    """The causes of what the decisive line says, the likeliest first."""
    if reading.decisive is None:
        return ()
    entries = [reading.decisive.entry, *reading.decisive.codes]
    entries += [code for each in reading.follows for code in each.codes]
    found: dict[str, Likely] = {}
    for entry in entries:
        for cause in entry.likely if entry is not None else ():
            found.setdefault(cause, Likely(cause, entry.id if entry is not None else ""))
    return tuple(found.values())


def next_steps(reading: Reading, machine_words: Sequence[str] = ()) -> tuple[str, ...]:
    """Commands to paste, and sentences that end with a full stop, for the decisive line and the other causes.

    Args:
        reading: of the text.
        machine_words: the options that name the machine, if it is not this host.
    """
    steps: dict[str, None] = {}
    for finding in (reading.decisive, *reading.also):
        for step in _steps_of(finding, reading) if finding is not None else ():
            steps.setdefault(_with_machine(step, machine_words))
    if not steps and reading.decisive is not None:
        likely = likely_causes(reading)
        if likely:
            return (f"Check first whether {likely[0].cause}.",)
        return (f"Look at line {reading.decisive.line} and the lines around it: no command can find out more.",)
    return tuple(steps)[:_MOST_STEPS]


def _steps_of(finding: Finding, reading: Reading) -> Iterator[str]:
    given = dict(finding.holes)
    for name, kind in _FROM_MENTIONS.items():
        named = next((mention.text for mention in reading.mentions if mention.kind is kind), None)
        if named is not None:
            given.setdefault(name, named)
    given["log"] = reading.name
    for entry in (finding.entry, *finding.codes):
        for template in entry.next if entry is not None else ():
            step = filled(template, given, is_command=not template.endswith("."))
            if step is not None:
                yield step


def filled(template: str, holes: dict[str, str], *, is_command: bool = False) -> str | None:
    """A text with its holes filled; None where something for one of them is not known."""
    if any(name not in holes for name in _HOLE.findall(template)):
        return None
    return _HOLE.sub(lambda hole: shlex.quote(holes[hole[1]]) if is_command else holes[hole[1]], template)


def _with_machine(step: str, words: Sequence[str]) -> str:
    """A command for the machine that is examined; ``build`` works on this host only."""
    if not words or not step.startswith(("fundamen trace ", "fundamen inspect ", "fundamen restore ")):
        return step
    command, rest = step.split(" ", 2)[:2], step.split(" ", 2)[2]
    return " ".join([*command, shlex.join(words), rest])
