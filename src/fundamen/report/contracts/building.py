"""The contract of ``build --json``."""

from collections.abc import Sequence
from typing import Literal

import msgspec

from fundamen.building.records import BuildNeed, BuildStep
from fundamen.messages import Message
from fundamen.report.contracts.line import Failure
from fundamen.report.contracts.tracing import CandidatePart, candidate_parts


class BuildNeedPart(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that a step of a build needs."""

    name: str  # as the command or the source spells it
    sort: str  # "library", "static library", "start file", "header", "symbol" ...
    verdict: str
    reason: Message
    fault: bool
    path: str | None
    asked_by: str | None
    near: tuple[str, ...]  # names that are there and differ by one easily misread character
    spelled_at: tuple[str, ...]  # "Makefile:7", for a near miss
    elsewhere: tuple[str, ...]  # copies where no loader looks
    brought_by: tuple[str, ...]  # packages of the operating system's archive
    do: Message | None  # what would mend it, where that is certain
    searched: tuple[CandidatePart, ...]


class BuildStepPart(msgspec.Struct, frozen=True, kw_only=True):
    """One step of a build."""

    command: tuple[str, ...]
    folder: str
    architecture: str
    target: str | None
    needs: tuple[BuildNeedPart, ...]


class BuildRecord(msgspec.Struct, frozen=True, kw_only=True):
    """One log, command or target, for ``build --json``."""

    schema: Literal["fundamen.build/3"] = "fundamen.build/3"
    input: str  # the log's path, the command line, or the target
    steps: tuple[BuildStepPart, ...] = ()
    faults: int = 0
    next: tuple[Message, ...] = ()
    error: Failure | None = None


def build_record(given: str, steps: Sequence[BuildStep], next_steps: Sequence[Message]) -> BuildRecord:
    """The contract's form of an examination."""
    return BuildRecord(
        input=given,
        steps=tuple(
            BuildStepPart(
                command=step.command,
                folder=step.folder,
                architecture=step.architecture,
                target=step.target or None,
                needs=tuple(map(_need, step.needs)),
            )
            for step in steps
        ),
        faults=sum(len(step.faults) for step in steps),
        next=tuple(next_steps),
    )


def _need(need: BuildNeed) -> BuildNeedPart:
    return BuildNeedPart(
        name=need.name,
        sort=need.sort,
        verdict=need.verdict,
        reason=need.reason,
        fault=need.verdict.is_fault,
        path=need.path,
        asked_by=need.asked_by or None,
        near=need.near,
        spelled_at=need.spelled_at,
        elsewhere=need.elsewhere,
        brought_by=need.brought_by,
        do=need.do or None,
        searched=candidate_parts(need.searched),
    )
