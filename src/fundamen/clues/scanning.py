"""Find the lines of a log that might say something, fast: most lines of a log say nothing.

Each sentence and code is given one word that stands in every line that says it. A block of a log is cut into words
all at once, and only where one of those is among them is it looked for which lines have it.
"""

import re
from collections.abc import Iterator

import msgspec

from fundamen.knowledge.entries import Code, Knowledge, Message
from fundamen.knowledge.sentence import FOLDED, Sentence

_TELLING = ("error", "fatal", "critical", "severe", "emerg", "exception", "failed", "failure")  # whoever says it


class Wanted(msgspec.Struct):
    """What a word may belong to."""

    sentences: list[tuple[Message, Sentence]]
    contexts: list[tuple[str, Sentence]]
    codes: list[Code]


class Scanner:
    """Knows the words by which lines are found."""

    def __init__(self, known: Knowledge) -> None:
        self.words: dict[bytes, Wanted] = {word.encode(): Wanted([], [], []) for word in _TELLING}
        for message, sentences in known.messages:
            for sentence in sentences:
                self._wanted(sentence.word).sentences.append((message, sentence))
        for space, sentence in known.contexts:
            self._wanted(sentence.word).contexts.append((space, sentence))
        for code in known.codes.values():
            for word in _spellings(code, stands_alone=known.spaces[code.space].stands_alone):
                self._wanted(word).codes.append(code)
        self._keys = frozenset(self.words)

    def _wanted(self, word: bytes) -> Wanted:
        return self.words.setdefault(word, Wanted([], [], []))

    def lines_of(self, block: bytes) -> Iterator[tuple[int, int]]:
        """(begin, end) of each line of a block that has one of the words, in their order."""
        folded = block.translate(FOLDED)
        found = self._keys.intersection(folded.split())
        begins = sorted({folded.rfind(b"\n", 0, at) + 1 for word in found for at in _places(folded, word)})
        for begin in begins:
            end = folded.find(b"\n", begin)
            yield begin, len(block) if end < 0 else end

    def wanted_by(self, line: str) -> Iterator[Wanted]:
        """What the words of one line may belong to."""
        for word in dict.fromkeys(line.encode("utf-8", "replace").translate(FOLDED).split()):
            if word in self._keys:
                yield self.words[word]


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


def _spellings(code: Code, *, stands_alone: bool) -> set[bytes]:
    """The words that stand for a code by itself: its name, and its value where that is unmistakable."""
    words = set(code.name.lower().encode().translate(FOLDED).split()) if re.fullmatch(r"\w+", code.name) else set()
    if stands_alone:
        signed = (1 << 32) - code.value
        words |= {b"0x%08x" % code.value, b"%08x" % code.value, b"%d" % code.value, b"%d" % signed}
    return words
