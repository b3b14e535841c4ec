"""Conclude from a reading: the likely causes in their order, and the next steps."""

import re
import shlex
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.clues.behind import Behind
from fundamen.clues.findings import Finding
from fundamen.clues.mentions import MentionKind
from fundamen.clues.reading import Reading
from fundamen.knowledge.entries import LikelyCause, Sign
from fundamen.messages import UNSAID, Message, as_command, say
from fundamen.model.verdict import Verdict

_HOLE = re.compile(r"\{(\w+)\}")
_AFTER_NOUN = re.compile(r"\b((?:an?|the) \w+) \{(\w+)\}", re.IGNORECASE)
_FROM_MENTIONS = {
    "program": MentionKind.PROGRAM,
    "component": MentionKind.COMPONENT,
    "package": MentionKind.PACKAGE,
    "host": MentionKind.HOST,
}
_MOST_STEPS = 4
_ON_MACHINE = tuple(
    f"fundamen {name}" for name in ("trace", "inspect", "restore", "roots import", "installer", "survey")
)
# Nouns for what a message leaves out.
_UNNAMED = {
    "component": "a component",
    "path": "a file",
    "package": "a package",
    "symbol": "a symbol",
    "version": "another version",
    "program": "the program",
    "architecture": "another architecture",
    "host": "the server",
    "service": "the service",
    "wanted": "another version",
    "target": "its target",
    "setting": "a setting",
    "number": "a number",
    "user": "the user",
    "name": "a name",
}


class Likely(msgspec.Struct, frozen=True):
    """A cause that would explain a line."""

    cause: str
    because: Message  # what speaks for it
    is_borne_out: bool = False  # by what lies on the machine, and not only by what such a message usually means


def means_of(finding: Finding) -> str:
    """The meaning of a finding, its placeholders filled; where a value is not known, by a plain noun."""
    if finding.entry is None:
        return say("clues.it-complains-in-words-that-are")
    known = {**_UNNAMED, **finding.holes}
    template = _named_once(finding.entry.means, finding.holes)
    means = fill_holes(template, known) or _HOLE.sub("something", template)
    is_name = (hole := _HOLE.match(template)) is not None and hole[1] in finding.holes
    return means if is_name else means[:1].upper() + means[1:]  # names are spelled as they are


def _named_once(template: str, holes: dict[str, str]) -> str:
    """A meaning without the holes whose value is not known and whose noun stands before them already."""

    def shorten(found: re.Match[str]) -> str:
        is_noun = found[2] not in holes and _UNNAMED.get(found[2], "").lower() == found[1].lower()
        return found[1] if is_noun else found[0]

    return _AFTER_NOUN.sub(shorten, template)


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
    signs = _signs(behind) if behind is not None else {}
    for entry in entries:
        for known in entry.likely if entry is not None else ():
            cause, sign = (known.cause, known.sign) if isinstance(known, LikelyCause) else (known, None)
            reason = signs.get(sign, UNSAID) if sign is not None else UNSAID
            usual = say("clues.usual-where-says-so", source=entry.source) if entry is not None else UNSAID
            found.setdefault(cause, Likely(cause, reason or usual, bool(reason)))
    return tuple(sorted(found.values(), key=lambda likely: not likely.is_borne_out))


def _signs(behind: Behind) -> dict[Sign, Message]:
    """Findings on the machine, by the sign that each is."""
    wanted = {str(fault.wanted_architecture) for trace in behind.traces for fault in trace.faults}
    found: dict[Sign, Message] = {}
    for place in behind.places:
        if wanted and place.architecture not in wanted:
            found.setdefault(
                Sign.OTHER_ARCHITECTURE,
                say("clues.the-one-at-is-for", path=place.path, architecture=place.architecture),
            )
        else:
            found.setdefault(Sign.ELSEWHERE, say("clues.one-lies-at", path=place.path))
        if place.verdict is Verdict.CORRUPT:
            found.setdefault(Sign.DAMAGED, say("common.said-of", subject=place.path, said=place.detail))
    if behind.absent and not behind.places:
        found[Sign.ABSENT] = say("clues.is-nowhere-on-the-machine", absent=behind.absent[0])
    for _, path in behind.meant[:1]:
        found[Sign.SIMILAR_NAME] = say("clues.is-there", path=path)
    for _, path in behind.versions[:1]:
        found[Sign.OTHER_VERSION] = say("clues.is-there", path=path)
    return found


def next_steps(reading: Reading, machine_words: Sequence[str] = ()) -> tuple[Message, ...]:
    """Commands to paste, and sentences that end with a full stop, for the decisive line and the other causes.

    Args:
        reading: of the text.
        machine_words: the options that name the machine, if it is not this host.
    """
    steps: dict[Message, None] = {}
    for finding in (reading.decisive, *reading.also):
        for step in _steps_of(finding, reading) if finding is not None else ():
            steps.setdefault(_with_machine(step, machine_words))
    if not steps and reading.decisive is not None:
        likely = likely_causes(reading)
        if likely:
            return (say("clues.check-the-likely-cause-first", cause=likely[0].cause),)
        if reading.lines > 1:
            return (say("clues.read-line-and-the-lines-around", line=reading.decisive.line),)
        return (say("clues.ask-for-the-lines-before-and"),)
    return tuple(steps)[:_MOST_STEPS]


def _steps_of(finding: Finding, reading: Reading) -> Iterator[Message]:
    given = dict(finding.holes)
    for name, kind in _FROM_MENTIONS.items():
        named = next((mention.text for mention in reading.mentions if mention.kind is kind), None)
        if named is not None:
            given.setdefault(name, named)
    given["log"] = reading.name
    for entry in (finding.entry, *finding.codes):
        for template in entry.next if entry is not None else ():
            is_sentence = template.endswith(".")
            step = fill_holes(template, given, is_command=not is_sentence)
            if step is not None and entry is not None:
                yield Message(step, f"knowledge.{entry.id}", given) if is_sentence else as_command(step)


def fill_holes(template: str, holes: dict[str, str], *, is_command: bool = False) -> str | None:
    """A text with its holes filled; None where something for one of them is not known."""
    if any(name not in holes for name in _HOLE.findall(template)):
        return None
    return _HOLE.sub(lambda hole: shlex.quote(holes[hole[1]]) if is_command else holes[hole[1]], template)


def _with_machine(step: Message, words: Sequence[str]) -> Message:
    """A command for the machine that is examined; ``build`` works on this host only."""
    name = next((each for each in _ON_MACHINE if step.startswith(f"{each} ")), None)
    if not words or name is None:
        return step
    return as_command(f"{name} {shlex.join(words)}{step.removeprefix(name)}")
