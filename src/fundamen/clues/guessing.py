"""Guess what a short text says that was typed wrong, misread, truncated, or is in a language that is not known here."""

import re
from collections.abc import Collection, Iterable, Iterator, Sequence

from fundamen.building.near_misses import is_one_slip_apart
from fundamen.clues.findings import Finding
from fundamen.clues.mentions import MentionKind, Mentions
from fundamen.knowledge.entries import Code, Knowledge, KnownMessage, LineRole
from fundamen.knowledge.sentence import own_words

_HEXADECIMAL = re.compile(r"(?<!\w)(?:0[xX]|Ox|ox)?([0-9A-Za-z]{7,9})(?!\w)")
_MISREAD = str.maketrans("oOsSiIlLzZgGqQ", "00551111226699")
_DIGITS = 8  # of a code that stands alone
_ENOUGH = 0.7  # share of a sentence's letters that must stand in a line
_LEAST_WORDS, _LEAST_CUT, _MOST_WORDS_MORE = 3, 4, 6
_WORD = re.compile(r"\w+")
_COMPLAINT = re.compile(
    r"\b(?:(?:does|do|is|was|were|did|has|could|can) not|not (?:a |found|known|allowed|supported|permitted|exist)|"
    r"missing|no such|is a directory|errors?|"
    r"unknown|invalid|illegal|bad|wrong|garbage|broken|corrupt\w*|fail(?:ed|ure|s)?|abort\w*|refused?|denied|unable|"
    r"cannot|can't|lacks?|exceed\w*|too (?:many|few|long|short|large|small|old|new)|unexpected|unsupported|mismatch|"
    r"unrecogni[sz]ed|expired)\b",
    re.IGNORECASE,
)


def guess(known: Knowledge, lines: Sequence[str], loud: Collection[int] = ()) -> Finding | None:
    """The most probable meaning of a text; None where nothing comes near.

    Args:
        known: messages and codes.
        lines: of the text, cleaned.
        loud: the numbers of lines that say of themselves that they are errors, in words that are not known; where there
            are some, only those are guessed at.
    """
    numbered = [(number, line) for number, line in enumerate(lines, 1) if not loud or number in loud]
    for number, line in numbered:
        if (code := _misread_code(known, line)) is not None:
            return _make_finding(number, line, code, (code,))
    best: tuple[float, int, KnownMessage] | None = None
    for number, line in numbered:
        words = _WORD.findall(line.lower())
        for message, score in _alike(known, words):
            if best is None or score > best[0]:
                best = score, number, message
    if best is not None:
        return _make_finding(best[1], lines[best[1] - 1], best[2], ())
    return None if loud else _by_name(numbered) or _by_complaint(numbered)


def _misread_code(known: Knowledge, line: str) -> Code | None:
    """A code that one misread, left out or doubled digit keeps from being known; where two come near, it is none."""
    for found in _HEXADECIMAL.finditer(line):
        digits = found[1].translate(_MISREAD).lower()
        near = {
            code
            for value, code in known.alone.items()
            if digits == (right := f"{value:08x}") or (len(digits) != _DIGITS and _is_one_digit_apart(digits, right))
        }
        if len(near) == 1:
            return near.pop()
    return None


def _is_one_digit_apart(digits: str, right: str) -> bool:
    longer, shorter = (digits, right) if len(digits) > len(right) else (right, digits)
    return any(longer[:at] + longer[at + 1 :] == shorter for at in range(len(longer)))


def _alike(known: Knowledge, words: list[str]) -> Iterator[tuple[KnownMessage, float]]:
    """The messages that a line is much like, with the share of their letters that stand in it."""
    places: dict[str, list[int]] = {}
    for message, sentences in known.messages:
        if message.role not in {LineRole.CAUSE, LineRole.FAILURE}:
            continue
        for sentence in sentences:
            own = own_words(sentence.text)
            fits = len(own) >= _LEAST_WORDS and len(words) <= _MOST_WORDS_MORE + 3 * len(own)
            if fits and (score := _share(own, words, places)) >= _ENOUGH:
                yield message, score


def _share(own: Sequence[str], words: list[str], places: dict[str, list[int]]) -> float:
    """How much of a sentence a line holds, its words in their order; a line that is truncated is measured so far.

    Args:
        own: the sentence's words.
        words: the line's.
        places: where in the line those stand that are like one of a sentence, as far as they were looked for.
    """
    at, found, slips = 0, 0, 0
    for index, word in enumerate(own):
        if (alike := places.get(word)) is None:
            alike = places[word] = [place for place, other in enumerate(words) if _is_like(word, other)]
        place = next((place for place in alike if place >= at), None) if alike else None
        if place is None:
            if index >= _LEAST_CUT and at == len(words):
                return found / sum(map(len, own[:index])) - 0.01
            continue
        is_cut = place == len(words) - 1 and word != words[place] and word.startswith(words[place])
        slips += word != words[place]
        at, found = place + 1, found + len(word)
        if is_cut and index + 1 >= _LEAST_CUT:
            return found / sum(map(len, own[: index + 1])) - 0.01
    return found / sum(map(len, own)) - 0.001 * slips


def _is_like(word: str, other: str) -> bool:
    if word == other or (len(other) > 3 and word.startswith(other)):  # noqa: PLR2004
        return True
    if abs(len(word) - len(other)) > 1 or not (word[0] == other[0] or word[-1] == other[-1]):
        return False  # one slip leaves the first letter or the last
    return is_one_slip_apart(word, other, least=4)


def _by_name(lines: Sequence[tuple[int, str]]) -> Finding | None:
    """The first line that names a component: a message in words that are not known here."""
    for number, line in lines:
        mentions = Mentions()
        mentions.add_text(line, number)
        named = next((mention.text for mention in mentions.all() if mention.kind is MentionKind.COMPONENT), None)
        if named is not None:
            holes = {"component": named}
            return Finding(line=number, text=line, entry=None, role=LineRole.CAUSE, holes=holes, is_guess=True)
    return None


def _by_complaint(lines: Sequence[tuple[int, str]]) -> Finding | None:
    """The first line that complains of something, in whatever words."""
    for number, line in lines:
        if _COMPLAINT.search(line):
            return Finding(line=number, text=line, entry=None, role=LineRole.FAILURE, holes={}, is_guess=True)
    return None


def _make_finding(number: int, line: str, entry: KnownMessage | Code, codes: Iterable[Code]) -> Finding:
    mentions = Mentions()
    mentions.add_text(line, number)
    holes = {
        m.kind.value: m.text
        for m in reversed(mentions.all())
        if m.kind in {MentionKind.COMPONENT, MentionKind.PROGRAM, MentionKind.PATH}
    }
    return Finding(line=number, text=line, entry=entry, role=entry.role, holes=holes, codes=tuple(codes), is_guess=True)
