"""The contract of ``survey`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.model.verdict import Verdict
from fundamen.report.contracts.line import Failure
from fundamen.survey.needs import Cause
from fundamen.survey.survey import Depth, Survey


class CausePart(msgspec.Struct, frozen=True):
    """One component that is at fault, and whom it stops."""

    name: str
    path: str | None  # what the loader takes; null where it takes nothing
    verdict: Verdict
    reason: str
    wanted_architecture: str
    brought_by: tuple[str, ...]  # packages of the system's archive that would bring it
    programs: tuple[str, ...]  # that cannot start for it
    libraries: tuple[str, ...]  # that nothing was found to load, and that lack it


class AlteredPart(msgspec.Struct, frozen=True):
    """An installed file that is not as its package brought it."""

    package: str
    path: str
    finding: str  # missing, differs, barred
    is_setting: bool
    detail: str


class ToolPart(msgspec.Struct, frozen=True):
    """A command that PATH finds in several places, as different files."""

    name: str
    first: str
    others: tuple[str, ...]


class StrayPart(msgspec.Struct, frozen=True):
    """A library in the system folder of another architecture."""

    path: str
    architecture: str
    folder_is_for: str


class EndingPart(msgspec.Struct, frozen=True):
    """A certificate of the machine's stores that has ended, or soon will."""

    name: str
    where: str
    ends: str
    has_ended: bool


class UnfinishedPart(msgspec.Struct, frozen=True):
    """An installation that was begun and not finished."""

    what: str
    why: str
    do: str


class SpoiltPart(msgspec.Struct, frozen=True):
    """Something that a repair would be drawn from, and that is damaged or gone."""

    path: str
    why: str
    do: str


class UntracedPart(msgspec.Struct, frozen=True):
    """A file that could not be traced."""

    path: str
    why: str


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
    untraced: tuple[UntracedPart, ...] = ()
    compared: int | None = None  # installed files; null where they were not compared
    read: int | None = None  # of these, those that were not known from an earlier survey
    altered: tuple[AlteredPart, ...] = ()
    tools: tuple[ToolPart, ...] = ()
    strays: tuple[StrayPart, ...] = ()
    mixed: dict[str, tuple[str, ...]] = {}  # packages in several versions
    certificates: tuple[EndingPart, ...] = ()
    unfinished: tuple[UnfinishedPart, ...] = ()
    spoilt: tuple[SpoiltPart, ...] = ()  # of what repairs are drawn from; not looked for with depth needs
    broken_links: tuple[str, ...] = ()
    gaps: tuple[str, ...] = ()  # what could not be found out
    faults: int = 0
    next: tuple[str, ...] = ()
    error: Failure | None = None
    schema: Literal["fundamen.survey/1"] = "fundamen.survey/1"


def survey_record(machine: str, survey: Survey, following: tuple[str, ...]) -> SurveyRecord:
    """A survey as JSON has it."""
    needs, contents = survey.needs, survey.contents
    return SurveyRecord(
        machine=machine,
        folders=survey.folders,
        depth=survey.depth,
        files=survey.walked.files,
        programs=needs.programs,
        libraries=needs.libraries,
        scripts=needs.scripts,
        causes=tuple(map(_cause, needs.causes)),
        untraced=tuple(UntracedPart(path, why) for path, why in needs.unreadable),
        compared=contents.checked if contents is not None else None,
        read=contents.read if contents is not None else None,
        altered=tuple(
            AlteredPart(e.package, e.path, e.finding, e.is_setting, e.detail)
            for e in (contents.altered if contents is not None else ())
        ),
        tools=tuple(ToolPart(e.name, e.first, e.others) for e in survey.tools),
        strays=tuple(StrayPart(e.path, e.architecture, e.folder_is_for) for e in survey.strays),
        mixed=dict(survey.mixed),
        certificates=tuple(EndingPart(e.name, e.where, e.ends.isoformat(), e.has_ended) for e in survey.certificates),
        unfinished=tuple(UnfinishedPart(e.what, e.why, e.do) for e in survey.unfinished),
        spoilt=tuple(SpoiltPart(e.path, e.why, e.do) for e in survey.spoilt),
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
