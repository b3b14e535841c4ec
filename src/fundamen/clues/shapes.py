"""Tell by the shapes of lines which might hold a word, fast: logs repeat themselves, but for their numbers.

The *shape* of a text is the text with each hexadecimal digit made a 0, so that lines with other numbers have the same.
The shape of a word stands in the shape of each line that has the word: "failed" is "00il00", and a line without
that in its shape has no "failed". So a block of a log is cut into shapes all at once, and only new ones are looked at.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice

from fundamen.knowledge.sentence import FOLDED

_SHAPE = bytes(ord("0") if byte in b"0123456789abcdefABCDEF" else byte for byte in range(256))
_LEAST_RUN = 2  # letters beyond f in a row by which a word's shape is looked for; a single one is in every line
_MOST_REMEMBERED = 4 << 20  # bytes of shapes
_SPACES = (b" ", b"\t")
_LEARNT = 256  # shapes of a block in which hardly any line is like another


class Shapes:
    """Knows the shapes of some words, and remembers which shapes of lines hold one."""

    def __init__(self, anchors: Mapping[bytes, Sequence[bytes] | None]) -> None:
        """Begin.

        Args:
            anchors: for each word of interest, in small letters, what one of must stand in the line besides, lest it is
                of interest only if a line below continues with it; None where the word is enough.
        """
        self._anchors: dict[bytes, tuple[bytes, ...] | None] = {}
        for word, beside in anchors.items():
            others = self._anchors.get(_shape_of(word), ())
            self._anchors[_shape_of(word)] = (
                None if beside is None or others is None else (*others, *map(_shape_of, beside))
            )
        self._words = frozenset(anchors)
        self._by_run: dict[bytes, list[bytes]] = {}
        self._without_run: list[bytes] = []
        for shape in self._anchors:
            run = max(shape.split(b"0"), key=len)
            (self._by_run.setdefault(run, []) if len(run) >= _LEAST_RUN else self._without_run).append(shape)
        self._runs = frozenset(self._by_run)
        self._silent = set[bytes]()  # shapes of lines that hold nothing of interest
        self._speaking: dict[bytes, bool] = {}  # those that might; False: only with a line below that continues with it
        self._remembered = 0  # bytes of both

    def forget(self) -> None:
        """Let go of what was learnt of lines."""
        self._remembered = 0
        self._silent.clear()
        self._speaking.clear()

    def lines_of_interest(self, block: bytes) -> list[int]:
        """Which lines of a block might be of interest, in their order, counted from 0. All that are, are among them."""
        shapes = block.translate(_SHAPE).split(b"\n")
        if self._remembered > _MOST_REMEMBERED:
            self.forget()
        new = set(shapes).difference(self._silent).difference(self._speaking)
        if len(new) > max(_LEARNT, len(shapes) // 4):  # hardly any line is like another
            self._learn(islice(new, _LEARNT))
            return self._lines_with_words(block)
        self._learn(new)
        goes_on = b"\n " in block or b"\n\t" in block
        speaking = {shape for shape, by_itself in self._speaking.items() if by_itself or goes_on}
        speaking.intersection_update(shapes)
        if not speaking:
            return []
        return [
            at
            for at, shape in enumerate(shapes)
            if shape in speaking and (self._speaking[shape] or has_more_below(shapes, at))
        ]

    def _learn(self, new: Iterable[bytes]) -> None:
        """Find out of which shapes a line might be that is of interest."""
        for shape in new:
            self._remembered += len(shape)
            lowered = shape.lower()
            runs = self._runs.intersection(lowered.translate(FOLDED).split())
            words = [word for run in runs for word in self._by_run[run] if word in lowered]
            words += [word for word in self._without_run if word in lowered]
            if words:
                self._speaking[shape] = self._is_of_interest(lowered, words)
            else:
                self._silent.add(shape)

    def _lines_with_words(self, block: bytes) -> list[int]:
        """Which lines hold any of the words, without what was learnt."""
        folded = block.translate(FOLDED)
        begins = {begin for word in self._words.intersection(folded.split()) for begin in _lines_with(folded, word)}
        line, counted, found = 0, 0, []
        for begin in sorted(begins):
            line += folded.count(b"\n", counted, begin)
            counted = begin
            found.append(line)
        return found

    def _is_of_interest(self, shape: bytes, words: Sequence[bytes]) -> bool:
        """Whether a line of a shape that holds some words might be of interest by itself."""
        return is_any_said(b" ".join(shape.split()), map(self._anchors.get, words))


def is_any_said(text: bytes, besides: Iterable[Sequence[bytes] | None]) -> bool:
    """Whether a text has, for any of some words, what must stand in it besides; None: nothing must."""
    return any(beside is None or any(anchor in text for anchor in beside) for beside in besides)


def has_more_below(lines: Sequence[bytes], at: int) -> bool:
    """Whether the line below one continues with it."""
    return at + 1 < len(lines) and lines[at + 1][:1] in _SPACES


def _shape_of(text: bytes) -> bytes:
    return text.translate(_SHAPE)


def _lines_with(folded: bytes, word: bytes) -> Iterator[int]:
    """Where the lines begin that hold a word."""
    at, size = folded.find(word), len(word)
    while at >= 0:
        before, after = folded[at - 1 : at], folded[at + size : at + size + 1]
        if (not before or before.isspace()) and (not after or after.isspace()):
            yield folded.rfind(b"\n", 0, at) + 1
            end = folded.find(b"\n", at)
            if end < 0:
                return
            at = folded.find(word, end)
        else:
            at = folded.find(word, at + size)
