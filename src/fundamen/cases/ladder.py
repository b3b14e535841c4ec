"""The ladder: for a symptom the remedies from harmless to drastic, with what was tried already, and the next."""

import os
import re
import shlex
import tomllib
from functools import cache

import msgspec

from fundamen.cases.store import Case, CaseFacts, EntryType, RemedyOutcome

_DATA = os.path.join(os.path.dirname(os.path.abspath(__file__)), "ladder.toml")
_HOLE = re.compile(r"\{(\w+)\}")
_DRASTIC = 4


class Remedy(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One thing that can be done."""

    id: str
    about: tuple[str, ...]  # for what kinds of symptoms
    do: str  # with holes
    disturbs: int  # 0 it only looks ... 4 it cannot simply be undone
    proves: str
    command: str = ""  # with holes; empty where there is none
    needs: tuple[str, ...] = ()
    when: str = ""  # a fact without which it is of no use
    last: bool = False  # it comes when all that is gentler was tried


class Rung(msgspec.Struct, frozen=True):
    """A remedy on the ladder of one case."""

    remedy: Remedy
    do: str
    command: str  # to paste; empty where there is none, or something for it is not known
    outcome: RemedyOutcome | None  # what came of it; None where it was not tried
    was_run: bool  # its command was run in the case

    @property
    def is_behind(self) -> bool:
        """Whether it need not be tried any more: it was, or it only looks and has looked."""
        return self.outcome is not None or (self.was_run and self.remedy.disturbs == 0)


class Ladder(msgspec.Struct, frozen=True):
    """All remedies for a case, the gentlest first."""

    about: str
    rungs: tuple[Rung, ...]
    next: Rung | None  # the gentlest that was not tried; None where it is solved, or all were


def ladder_of(case: Case) -> Ladder:
    """The ladder for what a case is about, by what was found out in it so far."""
    facts = facts_of(case)
    about = facts.get("about", "failed")
    run = [set(entry.text.split()) for entry in case.entries if entry.kind is EntryType.COMMAND]
    rungs = [
        Rung(
            remedy,
            _fill_holes(remedy.do, facts),
            _fill_holes(remedy.command, facts, is_command=True),
            case.tried.get(remedy.id),
            bool(remedy.command) and any(set(_HOLE.sub("", remedy.command).split()) <= words for words in run),
        )
        for remedy in _remedies()
        if about in remedy.about and _can_be_done(remedy, facts)
    ]
    rungs.sort(key=lambda rung: _DRASTIC - 0.5 if rung.remedy.last else rung.remedy.disturbs)
    is_solved = not case.is_open or RemedyOutcome.HELPED in case.tried.values()
    untried = next((rung for rung in rungs if not rung.is_behind), None)
    return Ladder(about, tuple(rungs), None if is_solved else untried)


def _can_be_done(remedy: Remedy, facts: dict[str, str]) -> bool:
    """Whether all that a remedy is about is known."""
    named = _HOLE.findall(remedy.do + remedy.command)
    return all(name in facts for name in named) and (not remedy.when or remedy.when in facts)


def remedy_ids() -> frozenset[str]:
    """The names of all remedies."""
    return frozenset(remedy.id for remedy in _remedies())


def facts_of(case: Case) -> dict[str, str]:
    """Known facts of a case: the latest of each kind; a trace's first fault says more than a message."""
    facts: dict[str, str] = {}
    for entry in case.entries:
        facts_of_entry = entry.facts
        named = {
            "about": facts_of_entry.about,
            "program": facts_of_entry.program,
            "component": facts_of_entry.component,
            "path": facts_of_entry.path,
            "host": facts_of_entry.host,
            "means": facts_of_entry.means,
            "target": facts_of_entry.target,
            "log": facts_of_entry.log,
        }
        facts |= {name: value for name, value in named.items() if value}
        facts |= _of_faults(facts_of_entry)
    return facts


def _of_faults(facts_of_entry: CaseFacts) -> dict[str, str]:
    if not facts_of_entry.faults:
        return {}
    first = facts_of_entry.faults[0]
    found = {"about": first.verdict, "component": first.name}
    return {**found, "package": first.package} if first.package else found


@cache
def _remedies() -> tuple[Remedy, ...]:
    with open(_DATA, "rb") as file:
        return msgspec.convert(tomllib.load(file)["remedy"], tuple[Remedy, ...])


def _fill_holes(template: str, facts: dict[str, str], *, is_command: bool = False) -> str:
    """A text with its holes filled; empty where something for one of them is not known."""
    if any(name not in facts for name in _HOLE.findall(template)):
        return ""
    return _HOLE.sub(lambda hole: shlex.quote(facts[hole[1]]) if is_command else facts[hole[1]], template)
