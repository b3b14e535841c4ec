"""Check requirements against a machine: all in one pass, each after its forerunners, what waits side by side."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor

import msgspec

from fundamen.machine.machine import Machine
from fundamen.machine.widths import find_program_of
from fundamen.messages import UNSAID, Message, say
from fundamen.model.encoding import as_message, encode_for_scripts, encode_json
from fundamen.model.errors import FundamenError, InternalError
from fundamen.model.isolation import Isolated
from fundamen.prerequisites.answer import Answer, RequirementStanding, unknown
from fundamen.prerequisites.requirement import CheckContext, Condition, Requirement

_AT_ONCE = 32  # checks that wait


class CheckedRequirement(msgspec.Struct, frozen=True):
    """A requirement with how it stands."""

    requirement: Requirement
    answer: Answer
    held_up_by: tuple[str, ...] = ()  # the forerunners that must be met before it can be checked


class SkippedRequirement(msgspec.Struct, frozen=True):
    """A requirement that does not count on this machine."""

    requirement: Requirement
    why: Message


class CheckOutcome(msgspec.Struct, frozen=True):
    """Results of a check."""

    checked: tuple[CheckedRequirement, ...]  # in the order in which they depend on each other
    left_out: tuple[SkippedRequirement, ...]
    bugs: tuple[InternalError, ...] = ()  # of ours, that kept a requirement from being checked

    def of(self, standing: RequirementStanding) -> tuple[CheckedRequirement, ...]:
        """Those that stand so."""
        return tuple(each for each in self.checked if each.answer.standing is standing)


def check_requirements(
    requirements: Sequence[Requirement],
    asked: CheckContext,
    known: Iterable[CheckedRequirement] = (),
    report: Callable[[Requirement], None] = lambda _requirement: None,
) -> CheckOutcome:
    """Check requirements that stand after their forerunners, as a sheet has them.

    Args:
        requirements: all of them.
        asked: what may be looked at.
        known: answers of an earlier check that still hold; these are not asked again.
        report: called with each that was checked.
    """
    checking = _Checking(asked, {each.requirement.id: each for each in known})
    for level in _levels(requirements):
        checking.check(level, report)
    standing = [checking.found[each.id] for each in requirements]
    return CheckOutcome(
        tuple(each for each in standing if isinstance(each, CheckedRequirement)),
        tuple(each for each in standing if isinstance(each, SkippedRequirement)),
        tuple(checking.bugs),
    )


def _levels(requirements: Sequence[Requirement]) -> Iterator[list[Requirement]]:
    """Those that depend on none, then those that depend only on these, and so on."""
    depth: dict[str, int] = {}
    levels: list[list[Requirement]] = []
    for each in requirements:
        condition = each.only_if.met if each.only_if and each.only_if.met else None
        own = 1 + max((depth[other] for other in (*each.after, *([condition] if condition else []))), default=-1)
        depth[each.id] = own
        while len(levels) <= own:
            levels.append([])
        levels[own].append(each)
    yield from levels


class _Checking:
    def __init__(self, asked: CheckContext, known: dict[str, CheckedRequirement]) -> None:
        self._asked = asked
        self._known = known
        self.found: dict[str, CheckedRequirement | SkippedRequirement] = {}
        self.bugs: list[InternalError] = []

    def check(self, level: Sequence[Requirement], report: Callable[[Requirement], None]) -> None:
        """Check those of one level: what waits side by side, and what does not meanwhile."""
        open_ = [each for each in level if not self._is_settled(each)]
        waiting = [each for each in open_ if each.waits]
        with ThreadPoolExecutor(min(_AT_ONCE, len(waiting)) or 1) as pool:
            answers = pool.map(self._answer, waiting)
            for each in open_:
                if not each.waits:
                    self.found[each.id] = CheckedRequirement(each, self._answer(each))
                    report(each)
            for each, answer in zip(waiting, answers, strict=True):
                self.found[each.id] = CheckedRequirement(each, answer)
                report(each)

    def _is_settled(self, requirement: Requirement) -> bool:
        """Whether it stands without being checked: by an earlier answer, its condition, or a forerunner."""
        if requirement.id in self._known:
            self.found[requirement.id] = self._known[requirement.id]
            return True
        if requirement.only_if is not None:
            applies, why = self._applies(requirement.only_if)
            if not applies:
                self.found[requirement.id] = SkippedRequirement(requirement, why)
                return True
        held_up_by = tuple(other for other in requirement.after if not self._is_met(other))
        if held_up_by:
            answer = unknown(say("prerequisites.it-can-be-checked-once-is", held_up_by=", ".join(held_up_by)))
            self.found[requirement.id] = CheckedRequirement(requirement, answer, held_up_by)
        return bool(held_up_by)

    def _applies(self, condition: Condition) -> tuple[bool, Message]:
        machine = self._asked.machine
        if condition.platform is not None and not condition.platform.serves(machine.platform):
            return False, say("prerequisites.it-counts-on-only", words=condition.platform.in_words)
        if condition.architecture is not None and not _runs(machine, condition):
            return False, say("prerequisites.this-machine-has-no-programs-for", architecture=condition.architecture)
        if condition.met is not None and not self._is_met(condition.met):
            return False, say("prerequisites.it-counts-only-where-is-met", met=condition.met)
        return True, UNSAID

    def _is_met(self, other: str) -> bool:
        """Whether a requirement is met; one that does not count hinders no one."""
        found = self.found[other]
        return isinstance(found, SkippedRequirement) or found.answer.standing is RequirementStanding.MET

    def _answer(self, requirement: Requirement) -> Answer:
        """How it stands; of a captured machine as it was found then, where the same was asked."""
        machine = self._asked.machine
        asked_for = f"requirement {encode_json(requirement).decode()}"
        if machine.is_captured and (known := machine.walk_record(asked_for)) is not None:
            try:
                return msgspec.json.decode(known, type=Answer, dec_hook=as_message)
            except (msgspec.DecodeError, ValueError):
                return unknown(say("prerequisites.the-capture-tells-nothing-that-can"))
        answer = self._found_out(requirement)
        machine.keep(asked_for, encode_for_scripts(answer))
        return answer

    def _found_out(self, requirement: Requirement) -> Answer:
        try:
            with Isolated(say("prerequisites.the-requirement", id=requirement.id)):
                if gap := requirement.registry_gap(self._asked.machine):
                    return unknown(gap)
                return requirement.check(self._asked)
        except InternalError as error:
            self.bugs.append(error)
            return unknown(error.why)
        except FundamenError as error:
            return unknown(say("common.said-of", subject=error.what, said=error.why))


def _runs(machine: Machine, condition: Condition) -> bool:
    return condition.architecture is not None and find_program_of(machine, condition.architecture) is not None
