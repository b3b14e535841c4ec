"""What follows from a reading: the likely causes in their order, and what to do next."""

import re
import shlex
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.clues.behind import Behind
from fundamen.clues.findings import Finding
from fundamen.clues.mentions import Kind
from fundamen.clues.reading import Reading
from fundamen.model.verdict import Verdict

_HOLE = re.compile(r"\{(\w+)\}")
_FROM_MENTIONS = {"program": Kind.PROGRAM, "component": Kind.COMPONENT, "package": Kind.PACKAGE, "host": Kind.HOST}
_MOST_STEPS = 4


class Likely(msgspec.Struct, frozen=True):
    """A cause that would explain a line."""

    cause: str
    because: str  # what speaks for it
    is_borne_out: bool = False  # by what lies on the machine, and not only by what such a message usually means


def means_of(finding: Finding) -> str:
    """What a finding means, its holes filled; what is not known is told by a plain word."""
    if finding.entry is None:
        return "It complains in words that are not known here."
    return filled(finding.entry.means, finding.holes) or _HOLE.sub("(not named)", finding.entry.means)


def likely_causes(reading: Reading, behind: Behind | None = None) -> tuple[Likely, ...]:
    """The causes of what the decisive line says, the likeliest first: what the machine bears out goes before the rest.

    Args:
        reading: of the text.
        behind: what the machine shows; None where nothing was looked up.
    """
    if reading.decisive is None:
        return ()
    entries = [reading.decisive.entry, *reading.decisive.codes]
    entries += [code for each in reading.follows for code in each.codes]
    found: dict[str, Likely] = {}
    for entry in entries:
        for cause in entry.likely if entry is not None else ():
            reason = _borne_out(cause, behind) if behind is not None else ""
            usual = f"usual where {entry.source} says so" if entry is not None else ""
            found.setdefault(cause, Likely(cause, reason or usual, bool(reason)))
    return tuple(sorted(found.values(), key=lambda likely: not likely.is_borne_out))


def _borne_out(cause: str, behind: Behind) -> str:
    """What on the machine speaks for a cause, which is known by its words; empty where nothing does."""
    return next((said for words, said in _signs(behind) if any(word in cause for word in words)), "")


def _signs(behind: Behind) -> Iterator[tuple[tuple[str, ...], str]]:
    """(words of causes that it speaks for, what was found) for all that was found on the machine."""
    wanted = {str(fault.wanted_architecture) for trace in behind.traces for fault in trace.faults}
    others = [place for place in behind.places if wanted and place.architecture not in wanted]
    for place in behind.places:
        if place in others:
            yield ("other width",), f"the one at {place.path} is for {place.architecture}"
        else:
            yield ("does not look", "leads elsewhere", "another folder"), f"one lies at {place.path}"
        if place.verdict is Verdict.CORRUPT:
            yield ("cut off", "damaged"), f"{place.path}: {place.detail}"
    if behind.absent and not behind.places:
        yield ("not installed",), f"{behind.absent[0]} lies nowhere on the machine"
    for _, path in behind.meant:
        yield ("misspelled", "misread"), f"{path} is there"
    for _, path in behind.versions:
        yield ("version",), f"{path} is there"


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
            return (f"Check the likely cause first: {likely[0].cause}.",)
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
