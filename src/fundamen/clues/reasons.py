"""Say in one sentence what is behind a message: by a trace, by places of a component, by files that are gone."""

from collections.abc import Sequence

from fundamen.clues.findings import Finding
from fundamen.clues.lost_files import FileDamage, LostFile
from fundamen.clues.mentions import plain_name
from fundamen.clues.places import FoundPlace
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.verdict import Verdict
from fundamen.trace.records import PRELOAD_LIST, Component, Trace

_NUMBER_WORDS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine")


def reason_by_trace(machine: Machine, decisive: Finding, traces: Sequence[Trace]) -> Message:
    """The reason of the message, as far as a trace shows it."""
    if not traces:
        return UNSAID
    trace = traces[0]
    program = machine.paths.basename(trace.program)
    if not trace.faults and decisive.entry is not None and decisive.entry.about == "blocked":
        return say("clues.has-all-the-files-that-it-needs", program=program)
    if not trace.faults:
        return say("clues.traced-now-has-all-that-it", program=program)
    named = plain_name(decisive.holes.get("component", ""))
    cause = _cause_of(machine, trace, named)
    if cause.kind == PRELOAD_LIST:
        return say("clues.the-list-to-preload-is-at-fault", path=cause.name, reason=cause.reason)
    depth = max(len(cause.chain) - 1, 0)
    where = (
        say(
            "clues.below",
            count_words=_count_words(depth),
            program=program,
            names=" > ".join(map(machine.paths.basename, cause.chain)),
        )
        if depth
        else UNSAID
    )
    name = cause.full_name if cause.noun else machine.paths.basename(cause.name)
    others = [fault for fault in trace.faults if fault is not cause]
    more = (
        say("clues.more-of-its-dependencies-at-fault", count=_counted_of(len(others)).capitalize(), verb=_is(others))
        if others
        else UNSAID
    )
    if named and machine.fold(name) != machine.fold(named):
        return say(
            "clues.the-message-names-the-reason-is",
            named=named,
            name=name,
            where=where or say("clues.which-it-needs"),
            reason=cause.reason,
            more=more,
        )
    below = ", " + where + "," if where else ""
    return (
        say("clues.is-at-fault-as-the-message", name=name, more=below, reason=cause.reason, other_more=more)
        if name in decisive.text
        else say("clues.is-at-fault", name=name, more=below, reason=cause.reason, other_more=more)
    )


def reason_by_place(places: Sequence[FoundPlace], absent: Sequence[str]) -> Message:
    """The reason of the message where no program could be traced, only the component be looked up."""
    if not places or absent:
        return UNSAID
    name = places[0].name
    right = [place for place in places if place.verdict is Verdict.VERIFIED]
    where = (
        say("clues.the-one-at-is-right", path=right[0].path)
        if len(right) == 1
        else say("clues.of-them-right", count=_counted_of(len(right)))
    )
    there = "one place" if len(places) == 1 else say("clues.places", count=len(places))
    return say("clues.is-on-this-machine-in-the", name=name, there=there, where=where)


def reason_of_loss(lost: Sequence[LostFile]) -> Message:
    """The reason of a message by files of packages that are gone, empty or altered."""
    more = (
        say("clues.more-of-its-files-gone", count=_counted_of(len(lost) - 1).capitalize(), verb=_is(lost[1:]))
        if lost[1:]
        else UNSAID
    )
    path, package = lost[0].path, lost[0].package
    if not lost[0].is_named:
        return say("clues.the-text-names-no-file-at-fault", path=path, package=package, more=more)
    match lost[0].damage:
        case FileDamage.GONE:
            return say("clues.is-gone-the-installed-package-brought", path=path, package=package, more=more)
        case FileDamage.EMPTY:
            return say("clues.is-empty-the-installed-package-brought", path=path, package=package, more=more)
        case FileDamage.ALTERED:
            return say("clues.is-altered-the-installed-package-brought", path=path, package=package, more=more)


def _cause_of(machine: Machine, trace: Trace, named: str) -> Component:
    """The fault that a message is about: the one of that name, or the first."""
    same = [f for f in trace.faults if named and machine.fold(machine.paths.basename(f.name)) == machine.fold(named)]
    return (same or list(trace.faults))[0]


def _counted_of(number: int) -> str:
    return "none" if number == 0 else _NUMBER_WORDS[number] if number < len(_NUMBER_WORDS) else str(number)


def _is(things: Sequence[object]) -> str:
    return "is" if len(things) == 1 else "are"


def _count_words(levels: int) -> Message:
    word = _NUMBER_WORDS[levels] if levels < len(_NUMBER_WORDS) else str(levels)
    return say("clues.level", word=word, more="" if levels == 1 else "s")
