"""Find past cases that were like this one, and what helped then."""

import re
from collections.abc import Sequence

import msgspec

from fundamen.cases.store import Case, RemedyOutcome

_WORD = re.compile(r"[\w.+-]{3,}")
_FAMILIAR_WORDS = """
the and not was does did start starts cannot error file with for from has have this that its was were such fundamen
trace clues
"""
_FAMILIAR = frozenset(_FAMILIAR_WORDS.split())
_LEAST = 0.15  # of a case's score to the best one's


class FoundCase(msgspec.Struct, frozen=True):
    """A past case that is like what is looked for."""

    case: Case
    score: float
    words: tuple[str, ...]  # that both have
    helped: tuple[str, ...]  # what helped then


def find_alike(cases: Sequence[Case], text: str, most: int = 10) -> tuple[FoundCase, ...]:
    """The cases that have most of a text's words, rare words counting more; solved ones before others.

    Args:
        cases: all of them.
        text: a symptom, as it was read out or as a log has it.
        most: how many are given.
    """
    wanted = _words(text) or set(_WORD.findall(text.lower()))
    if not wanted:
        return ()
    have = {case.id: set(_WORD.findall(_text_of(case).lower())) for case in cases}
    frequency = {word: sum(word in words for words in have.values()) for word in wanted}
    found = []
    for case in cases:
        shared = wanted & have[case.id]
        score = sum(_weight_of(word) / frequency[word] for word in shared)
        if shared and score:
            found.append(FoundCase(case, score * (1.5 if case.helped else 1), tuple(sorted(shared)), what_helped(case)))
    found.sort(key=lambda each: (-each.score, -each.case.number))
    return tuple(each for each in found[:most] if each.score >= found[0].score * _LEAST)


def what_helped(case: Case) -> tuple[str, ...]:
    """Remedies that helped in a case: the one it was closed with, and those after which the symptom was gone."""
    tried = [entry.text for entry in case.entries if entry.facts.outcome is RemedyOutcome.HELPED]
    return tuple(dict.fromkeys([*([case.helped] if case.helped else []), *tried]))


def _words(text: str) -> set[str]:
    return {word for word in _WORD.findall(text.lower()) if word not in _FAMILIAR}


def _weight_of(word: str) -> float:
    """Names of components, codes and versions tell more than words of the language."""
    return 3.0 if re.search(r"[\d._]", word) else 1.0


def _text_of(case: Case) -> str:
    facts = [part for entry in case.entries for part in (entry.text, entry.facts.says, entry.facts.component)]
    return " ".join([case.title, case.helped or "", *facts])
