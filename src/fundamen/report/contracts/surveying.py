"""The contract of ``survey`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.messages import Message, as_said
from fundamen.model.verdict import Verdict
from fundamen.report.contracts.line import Failure
from fundamen.survey.contents import Altered
from fundamen.survey.needs import Cause
from fundamen.survey.repair_stores import SpoiltCopy
from fundamen.survey.survey import Depth, Survey
from fundamen.survey.tidiness import DoubledTool, StrayLibrary, Unfinished
from fundamen.survey.unusable import Unusable


class CausePart(msgspec.Struct, frozen=True):
    """One component that is at fault, and whom it stops."""

    name: str
    path: str | None  # what the loader takes; null where it takes nothing
    verdict: Verdict
    reason: Message
    wanted_architecture: str
    brought_by: tuple[str, ...]  # packages of the system's archive that would bring it
    programs: tuple[str, ...]  # that cannot start for it
    libraries: tuple[str, ...]  # that nothing was found to load, and that lack it


class EndingPart(msgspec.Struct, frozen=True):
    """A certificate of the machine's stores that has ended, or soon will."""

    name: str
    where: str
    ends: str
    has_ended: bool


class UntracedPart(msgspec.Struct, frozen=True):
    """A file that could not be traced."""

    path: str
    why: Message


class SurveyRecord(msgspec.Struct, frozen=True, kw_only=True):
    """A whole machine."""

    machine: str
    folders: tuple[str, ...] = ()
    depth: Depth = Depth.NEEDS
    files: int = 0  # ordinary files that were seen
    programs: int = 0  # that were traced
    libraries: int = 0  # that were traced by themselves
    scripts: int = 0
    causes: tuple[CausePart, ...] = ()  # those that stop most programs first
    optional: tuple[CausePart, ...] = ()  # what only optional parts of packages lack: no fault
    untraced: tuple[UntracedPart, ...] = ()
    compared: int | None = None  # installed files; null where they were not compared
    read: int | None = None  # of these, those that were not known from an earlier survey
    altered: tuple[Altered, ...] = ()
    tools: tuple[DoubledTool, ...] = ()
    strays: tuple[StrayLibrary, ...] = ()
    mixed: dict[str, tuple[str, ...]] = {}  # packages in several versions
    certificates: tuple[EndingPart, ...] = ()
    unfinished: tuple[Unfinished, ...] = ()
    unusable: tuple[Unusable, ...] = ()  # commands that cannot be run, and the bundle of trusted certificates
    spoilt: tuple[SpoiltCopy, ...] = ()  # of what repairs are drawn from; not looked for with depth needs
    broken_links: tuple[str, ...] = ()
    gaps: tuple[Message, ...] = ()  # what could not be found out
    faults: int = 0
    next: tuple[Message, ...] = ()
    error: Failure | None = None
    schema: Literal["fundamen.survey/2"] = "fundamen.survey/2"


def survey_record(machine: str, survey: Survey, following: tuple[Message, ...]) -> SurveyRecord:
    """A survey as JSON has it."""
    needs, contents = survey.needs, survey.contents
    return SurveyRecord(
        machine=str(machine),
        folders=survey.folders,
        depth=survey.depth,
        files=survey.walked.files,
        programs=needs.programs,
        libraries=needs.libraries,
        scripts=needs.scripts,
        causes=tuple(map(_cause, needs.causes)),
        optional=tuple(map(_cause, needs.optional)),
        untraced=tuple(UntracedPart(path, as_said(why)) for path, why in needs.unreadable),
        compared=contents.checked if contents is not None else None,
        read=contents.read if contents is not None else None,
        altered=contents.altered if contents is not None else (),
        tools=survey.tools,
        strays=survey.strays,
        mixed={name: tuple(map(str, versions)) for name, versions in survey.mixed},
        certificates=tuple(
            EndingPart(str(e.name), str(e.where), e.ends.isoformat(), e.has_ended) for e in survey.certificates
        ),
        unfinished=survey.unfinished,
        unusable=survey.unusable,
        spoilt=survey.spoilt,
        broken_links=survey.walked.broken_links,
        gaps=(*survey.gaps, *survey.walked.barred),
        faults=survey.faults,
        next=following,
    )


def _cause(cause: Cause) -> CausePart:
    component = cause.component
    return CausePart(
        name=component.name,
        path=component.path,
        verdict=component.verdict,
        reason=component.reason,
        wanted_architecture=component.wanted_architecture,
        brought_by=component.brought_by,
        programs=cause.programs,
        libraries=cause.libraries,
    )
