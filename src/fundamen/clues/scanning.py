"""Find the lines of a log that might say something, fast: most lines of a log say nothing.

Each sentence and code is given one word that stands in every line that says it. A block of a log is cut into words
all at once, and only where one of those is among them is it looked for which lines have it.
"""

import re
from collections.abc import Iterator

import msgspec

from fundamen.knowledge.entries import Code, Knowledge, Message
from fundamen.knowledge.sentence import FOLDED, Sentence

_TELLING = frozenset(
    {b"error", b"fatal", b"critical", b"severe", b"emerg", b"exception", b"failed", b"failure"}
)  # whoever says it


_STAMP = b"0123456789:.,-/+TZ[]() "  # what a time at the beginning of a line is made of
_MOST_SEEN = 20_000
_BELOW = 3
_LONGEST = 16_000  # bytes of a line
_SPACES = (b" ", b"\t")
_NUMBERS = (b"0x80", b"0xC0", b"0xc0")  # how most codes begin that stand for themselves


class Wanted(msgspec.Struct):
    """What a word may belong to."""

    sentences: list[tuple[Message, Sentence]]
    contexts: list[tuple[str, Sentence]]
    codes: list[Code]


class Candidate(msgspec.Struct, frozen=True):
    """A line that might say something."""

    number: int  # of the line, from 1 at the beginning of what was scanned
    raw: bytes
    below: tuple[bytes, ...]  # the lines below it, as far as they are at hand


class Scanned(msgspec.Struct, frozen=True):
    """What was found in a piece of a log."""

    lines: int
    candidates: tuple[Candidate, ...]


class Scanner:
    """Knows the words by which lines are found."""

    def __init__(self, known: Knowledge) -> None:
        self.words: dict[bytes, Wanted] = {word: Wanted([], [], []) for word in _TELLING}
        for message, sentences in known.messages:
            for sentence in sentences:
                self._wanted(sentence.word).sentences.append((message, sentence))
        for space, sentence in known.contexts:
            self._wanted(sentence.word).contexts.append((space, sentence))
        for code in known.codes.values():
            if (word := _name_of(code)) is not None:
                self._wanted(word).codes.append(code)
        self._keys = frozenset(self.words)

    def _wanted(self, word: bytes) -> Wanted:
        return self.words.setdefault(word, Wanted([], [], []))

    def scan(self, block: bytes, seen: set[bytes], first: int = 1) -> Scanned:
        """Look through whole lines.

        Args:
            block: the lines, in UTF-8.
            seen: what was said before; that something is said again is not told, and what is new is added.
            first: the number of the first line.
        """
        found, at, number = [], 0, first
        for begin, end in self._lines_of(block):
            number += block.count(b"\n", at, begin)
            at = begin
            raw = block[begin : min(end, begin + _LONGEST)]
            key = raw.lstrip(_STAMP)
            if key not in seen:
                if len(seen) < _MOST_SEEN:
                    seen.add(key)
                found.append(Candidate(number, raw, tuple(_below(block, end))))
        return Scanned(count_lines(block), tuple(found))

    def _lines_of(self, block: bytes) -> Iterator[tuple[int, int]]:
        """(begin, end) of each line of a block that might say something, in their order."""
        folded = block.translate(FOLDED)
        lines: dict[int, list[bytes]] = {}
        for word in self._keys.intersection(folded.split()):
            for at in _places(folded, word):
                lines.setdefault(folded.rfind(b"\n", 0, at) + 1, []).append(word)
        for mark in _NUMBERS:
            at = block.find(mark)
            while at >= 0:
                lines.setdefault(block.rfind(b"\n", 0, at) + 1, []).append(mark)
                at = block.find(mark, at + len(mark))
        for begin in sorted(lines):
            end = block.find(b"\n", begin)
            end = len(block) if end < 0 else end
            if block[end + 1 : end + 2] in _SPACES or self._might_say(block[begin:end], lines[begin]):
                yield begin, end

    def _might_say(self, raw: bytes, words: list[bytes]) -> bool:
        """Whether a line with some of the words might say something, by what must stand in it besides."""
        lowered = b" ".join(raw.lower().split()).decode("utf-8", "replace")
        for word in words:
            wanted = self.words.get(word)
            if wanted is None or wanted.codes or word in _TELLING:
                return True
            if any(sentence.anchor in lowered for _, sentence in (*wanted.sentences, *wanted.contexts)):
                return True
        return False

    def wanted_by(self, line: str) -> Iterator[Wanted]:
        """What the words of one line may belong to."""
        for word in dict.fromkeys(line.encode("utf-8", "replace").translate(FOLDED).split()):
            if word in self._keys:
                yield self.words[word]


def count_lines(block: bytes) -> int:
    """How many lines a block has; the last may be without its end."""
    return block.count(b"\n") + (not block.endswith(b"\n"))


def _below(block: bytes, end: int) -> Iterator[bytes]:
    """The lines below one that ends there, as far as they are in its block."""
    for _ in range(_BELOW):
        if end + 1 >= len(block):
            return
        begin, end = end + 1, block.find(b"\n", end + 1)
        end = len(block) if end < 0 else end
        yield block[begin : min(end, begin + _LONGEST)]


def _places(folded: bytes, word: bytes) -> Iterator[int]:
    """Where a word stands, once for each line."""
    at, size = folded.find(word), len(word)
    while at >= 0:
        before, after = folded[at - 1 : at], folded[at + size : at + size + 1]
        if (not before or before.isspace()) and (not after or after.isspace()):
            yield at
            end = folded.find(b"\n", at)
            if end < 0:
                return
            at = folded.find(word, end)
        else:
            at = folded.find(word, at + size)


def _name_of(code: Code) -> bytes | None:
    """The word by which a code's name is found; None where its name could be any word's."""
    is_name = re.fullmatch(r"[A-Za-z]\w*", code.name) and not code.name.islower()
    words = code.name.encode().translate(FOLDED).split() if is_name else []
    return max(words, key=len, default=None)
