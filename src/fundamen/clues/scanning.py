"""Find the lines of a log that might say something, fast: most lines of a log say nothing.

Each sentence and code is given one word that stands in every line that says it. ``shapes`` tells fast which lines might
have one of those words, and only these are cut into words.
"""

import re
from collections.abc import Iterator

import msgspec

from fundamen.clues.shapes import Shapes, has_more_below, is_any_said
from fundamen.knowledge.entries import Code, Knowledge, KnownMessage
from fundamen.knowledge.sentence import FOLDED, Sentence

_TELLING = frozenset(
    {b"error", b"fatal", b"critical", b"severe", b"emerg", b"exception", b"failed", b"failure"}
)  # from any speaker


_STAMP = b"0123456789:.,-/+TZ[]() "  # what a time at the beginning of a line is made of
_MOST_SEEN = 20_000
_BELOW = 3
_LONGEST = 16_000  # bytes of a line
_NUMBER = re.compile(rb"0x(?:80|[Cc]0)")  # how most codes begin that stand for themselves


class PossibleMeaning(msgspec.Struct):
    """A message or code that a word may belong to."""

    sentences: list[tuple[KnownMessage, Sentence]]
    contexts: list[tuple[str, Sentence]]
    codes: list[Code]


class PossibleMatch(msgspec.Struct, frozen=True):
    """A line that might say something."""

    number: int  # of the line, from 1 at the beginning of what was scanned
    raw: bytes
    below: tuple[bytes, ...]  # the lines below it, as far as they are available


class Scanned(msgspec.Struct, frozen=True):
    """Hits in a piece of a log."""

    lines: int
    candidates: tuple[PossibleMatch, ...]


class Scanner:
    """Knows the words by which lines are found."""

    def __init__(self, known: Knowledge) -> None:
        self.words: dict[bytes, PossibleMeaning] = {word: PossibleMeaning([], [], []) for word in _TELLING}
        for message, sentences in known.messages:
            for sentence in sentences:
                self._entry_of(sentence.word).sentences.append((message, sentence))
        for space, sentence in known.contexts:
            self._entry_of(sentence.word).contexts.append((space, sentence))
        for code in known.codes.values():
            if (word := _name_of(code)) is not None:
                self._entry_of(word).codes.append(code)
        self._keys = frozenset(self.words)
        self._anchors = {word: None if word in _TELLING else _anchors_of(self.words[word]) for word in self.words}
        self._shapes = Shapes(self._anchors)

    def _entry_of(self, word: bytes) -> PossibleMeaning:
        return self.words.setdefault(word, PossibleMeaning([], [], []))

    def scan(self, block: bytes, seen: set[bytes], first: int = 1) -> Scanned:
        """Look through whole lines.

        Args:
            block: the lines, in UTF-8.
            seen: what was said before; repeated lines are not reported, and new ones are added.
            first: the number of the first line.
        """
        found = []
        numbers = frozenset(_lines_with_numbers(block))
        might = sorted(numbers.union(self._shapes.lines_of_interest(block)))
        lines = block.split(b"\n") if might else []
        if block.endswith(b"\n"):
            lines = lines[:-1]
        for at in might:
            raw = lines[at][:_LONGEST]
            key = raw.lstrip(_STAMP)
            if key not in seen and (at in numbers or self._might_say(lines[at], goes_on=has_more_below(lines, at))):
                if len(seen) < _MOST_SEEN:
                    seen.add(key)
                below = lines[at + 1 : at + 1 + _BELOW]
                found.append(PossibleMatch(first + at, raw, tuple(line[:_LONGEST] for line in below)))
        return Scanned(count_lines(block), tuple(found))

    def _might_say(self, raw: bytes, *, goes_on: bool) -> bool:
        """Whether a line might say something, by its words and by what must stand in it besides."""
        words = self._keys.intersection(raw.translate(FOLDED).split())
        if not words or goes_on:
            return bool(words)
        return is_any_said(b" ".join(raw.lower().split()), map(self._anchors.get, words))

    def wanted_by(self, line: str) -> Iterator[PossibleMeaning]:
        """Messages and codes that the words of one line may belong to."""
        for word in dict.fromkeys(line.encode("utf-8", "replace").translate(FOLDED).split()):
            if word in self._keys:
                yield self.words[word]


def count_lines(block: bytes) -> int:
    """How many lines a block has; the last may be without its end."""
    return block.count(b"\n") + (not block.endswith(b"\n"))


def _lines_with_numbers(block: bytes) -> Iterator[int]:
    """Which lines have a number that may be a code, counted from 0."""
    line = counted = 0
    for number in _NUMBER.finditer(block):
        line += block.count(b"\n", counted, number.start())
        counted = number.start()
        yield line


def _anchors_of(wanted: PossibleMeaning) -> tuple[bytes, ...] | None:
    """Further words of a line that confirms a word; None where the word is enough."""
    sentences = (*wanted.sentences, *wanted.contexts)
    return None if wanted.codes else tuple(sentence.anchor.encode() for _, sentence in sentences)


def _name_of(code: Code) -> bytes | None:
    """The word by which a code's name is found; None where its name could be any word's."""
    is_name = re.fullmatch(r"[A-Za-z]\w*", code.name) and not code.name.islower()
    words = code.name.encode().translate(FOLDED).split() if is_name else []
    return max(words, key=len, default=None)
