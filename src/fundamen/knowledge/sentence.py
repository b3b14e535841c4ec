"""Sentences with holes: how the wording of a message is written down, and found in a line.

A sentence is plain text. A hole such as ``{component}`` stands for what differs from message to message, ``...`` for up
to 300 characters of anything. Capital and small letters are the same, but in a sentence that is all capitals; ``'`` is
any quotation mark; the line has single spaces between its words, and a space may be the end of a line. Whatever stands
in a hole ends where the text behind the hole begins for the first time: nothing is tried twice, so that the time for a
line is bounded whatever a sentence says.
"""

import functools
import re
from collections.abc import Iterable

import msgspec

from fundamen.model.errors import UsageError

QUOTES = "'\"`\u00b4\u2018\u2019\u201c\u201d\u201a\u201e\u00ab\u00bb"
_QUOTE = f"[{QUOTES}]"
_TOKENS = frozenset({"component", "program", "path", "package", "host", "setting", "target", "user", "process"})
_SPECIAL = {
    "version": r"[\w.+~:-]{1,80}",
    "number": r"-?\d{1,20}",
    "code": r"-?(?:0[xX])?[0-9A-Fa-f]{1,16}",
    "architecture": r"[\w./-]{1,40}",
    "wanted": r"[\w./-]{1,40}",  # the architecture that would be right
    "symbol": r".{1,400}?",
    "name": rf"[^{QUOTES}<>|\n]{{1,120}}?",
    "service": rf"[^{QUOTES}<>|\n]{{1,120}}?",
}
HOLES = _TOKENS | frozenset(_SPECIAL)
_WORD = rf"[^\s{QUOTES}|]{{1,400}}"
_DRIVE_PATH = rf"[A-Za-z]:[\\/][^{QUOTES}<>|*?\n]{{1,300}}"
_PARTS = re.compile(r"\{(\w+)\}|(\.\.\.)")
_NO_DIGIT = r"(?!\w)"
_TRAILING = ".,;:)!]"
_LONGEST, _MOST_HOLES = 400, 8

# Everything but letters, _ and what is not ASCII parts words, digits too: most of what logs are made of is numbers.
# The end of a line stays.
_ASCII = range(0x80)
FOLDED = bytes(
    byte if byte not in _ASCII or chr(byte).isalpha() or chr(byte) in "_\n" else ord(" ")
    for byte in bytes(range(256)).lower()
)
_QUOTED_WORD = re.compile(r"\w+'\w+")  # "can't": the mark may be any, of several bytes
# Words that logs are full of while all is well: a sentence is found by another one where it has one.
_COMMON_WORDS = """
the a an is in of for to not no on at and or by be with was are it this that from as has have had file files found
find version versions package packages module modules library libraries name names open opened server host
connection connect connected system service services program start started starting stop stopped read reading write
writing path line key type user users could can your you must does did do will may only then other using used
installed install installing installation run running load loaded loading set value new while requires required
require object code configuration config command process processing directory folder format operation application
following requested request specified computer feature data device registered component components option options
parameter setting number local remote address port update during before after into reference runtime framework
platform driver called call reason current signal status result returned return exit exited ended session kernel
windows c e s t l a h x all any some one two first last same more than there so s but if when which what how its
memory space disk archive link symbol source target build make
"""
_COMMON = frozenset(_COMMON_WORDS.split())
_HEX = frozenset("abcdef")  # a word of these alone may as well be a number


class SentenceMatch(msgspec.Struct, frozen=True):
    """A sentence that was found in a line."""

    begin: int  # where in the line
    holes: dict[str, str]  # what stands in them; those that hold nothing are left out


class Sentence(msgspec.Struct, frozen=True):
    """A sentence, ready to be looked for."""

    text: str
    word: bytes  # in small letters: it stands by itself in every line that the sentence is found in
    anchor: str  # in small letters: a piece that stands in every line that says it, where its ends of line are spaces
    weight: int  # how many of its characters are its own: the more, the more it tells

    def find(self, line: str) -> SentenceMatch | None:
        """Where a line says this first, and what stands in the holes; None where it does not.

        Args:
            line: with single spaces between its words.
        """
        found = _pattern(self.text).search(line)
        if found is None:
            return None
        holes = {name: text.rstrip(_TRAILING).lstrip("([") for name, text in found.groupdict().items()}
        return SentenceMatch(found.start(), {name: text for name, text in holes.items() if text})


def read_sentence(text: str) -> Sentence:
    """Check a sentence.

    Raises:
        UsageError: it is none: an unknown hole, two holes without anything between them, or nothing to find it by.
    """
    if len(text) > _LONGEST:
        raise _refusal(text, f"it is longer than {_LONGEST} characters")
    if text != " ".join(text.split()):
        raise _refusal(text, "it begins or ends with a space, or has two in a row")
    literals, holes = _literals(text), [found[1] for found in _PARTS.finditer(text) if found[1]]
    if unknown := sorted(set(holes) - HOLES):
        raise _refusal(text, f"{{{unknown[0]}}} is no hole; there are {', '.join(sorted(HOLES))}")
    if len(set(holes)) != len(holes) or len(holes) > _MOST_HOLES:
        raise _refusal(text, f"it has a hole twice, or more than {_MOST_HOLES}")
    if any(not literal for literal in literals[1:-1]):
        raise _refusal(text, "two placeholders are side by side, so the end of the first is unknown")
    words = [word for number, literal in enumerate(literals) for word in _whole_words(literal, number, len(literals))]
    if not words:
        raise _refusal(text, "no word in it is fixed, so it cannot be searched for")
    word = max(words, key=lambda word: (not set(word) <= _HEX, word not in _COMMON, word.isascii(), len(word)))
    anchor = max((piece for literal in literals for piece in re.split(_QUOTE, literal.lower())), key=len)
    return Sentence(text, word.encode(), anchor, sum(map(len, literals)))


@functools.cache  # the sentences that are known are few
def own_words(text: str) -> tuple[str, ...]:
    """The words of a sentence that are no holes, in small letters."""
    return tuple(re.findall(r"\w+", _PARTS.sub(" ", text.lower())))


def _literals(text: str) -> list[str]:
    return _PARTS.sub("\0", text).split("\0")


def _whole_words(literal: str, number: int, count: int) -> Iterable[str]:
    """The words of a piece that no hole can be part of: those at its edges only where the sentence ends there too."""
    folded = _QUOTED_WORD.sub(" ", literal).encode().translate(FOLDED).decode()
    if number > 0 and _is_of_word(literal[:1]):
        folded = re.sub(r"^\w+", " ", folded)
    if number < count - 1 and _is_of_word(literal[-1:]):
        folded = re.sub(r"\w+$", " ", folded)
    return folded.split()


def _is_of_word(character: str) -> bool:
    return character.isalnum() or character == "_"


@functools.cache
def _pattern(text: str) -> re.Pattern[str]:
    """The expression that finds a sentence; each hole and the text behind it are one atomic group."""
    pieces, at = [], 0
    for found in _PARTS.finditer(text):
        pieces.append((text[at : found.start()], found[1] or found[2]))
        at = found.end()
    tail = text[at:]
    expression = r"(?<!\w)" if (pieces and not pieces[0][0]) or text[:1].isalnum() else ""
    for index, (before, hole) in enumerate(pieces):
        after = pieces[index + 1][0] if index + 1 < len(pieces) else tail
        if index == 0:
            expression += _escape_literal(before)
        expression += f"(?>{_hole(hole, before, after)}{_escape_literal(after)})"
    if not pieces:
        expression += _escape_literal(text)
    if tail[-1:].isalnum():
        expression += r"(?!\w)"
    letters = "".join(_literals(text))
    return re.compile(expression, 0 if letters.isupper() else re.IGNORECASE)


def _hole(name: str, before: str, after: str) -> str:
    if name == "...":
        return ".{0,300}?"
    return f"(?P<{name}>{_inside(name, before, after)})" + (_NO_DIGIT if name == "number" and not after else "")


def _inside(name: str, before: str, after: str) -> str:
    """The pattern of a placeholder: the text that its name allows, ended by its surroundings."""
    if before.endswith("'") and after.startswith("'"):
        return rf"[^{QUOTES}\n]{{1,400}}"
    if before.endswith("(") and after.startswith(")") and name not in {"number", "code"}:
        return rf"[^{QUOTES}()\n]{{1,400}}"
    if name == "service" and after.startswith(".service"):
        return r"[\w:.@\\-]{1,255}?"  # a unit's name: systemd.unit(5)
    if name in _SPECIAL:
        return ".{1,400}" if name == "symbol" and not after else _SPECIAL[name]
    return f"{_DRIVE_PATH}?|{_WORD}?" if after else rf"{_DRIVE_PATH}?\.\w{{1,10}}(?!\w)|{_WORD}"


def _escape_literal(literal: str) -> str:
    return re.escape(literal).replace(r"\ ", "[ \n]").replace("'", _QUOTE)


def _refusal(text: str, why: str) -> UsageError:
    return UsageError(
        what=f"The sentence {text[:80]!r} cannot be looked for",
        why=why,
        do="Write it as a message says it, with holes such as {component} for what differs.",
    )
