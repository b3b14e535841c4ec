"""The contract of ``toolchain`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.messages import Message
from fundamen.model.verdict import Verdict
from fundamen.report.contracts.line import Failure
from fundamen.toolchains.contents import PartState
from fundamen.toolchains.examining import Acceptance, Due, Examination
from fundamen.toolchains.reach import VariableState


class ToolchainFilePart(msgspec.Struct, frozen=True):
    """A file of a part that is not as it should be."""

    path: str  # below the toolchain's folder
    verdict: Verdict
    detail: Message | None
    version: str | None  # the version whose file it is, where a catalogue tells


class ToolchainPart(msgspec.Struct, frozen=True):
    """A part of the toolchain for this machine."""

    name: str
    version: str
    host: str
    targets: tuple[str, ...]
    verdict: Verdict
    count: int  # files that are listed
    files: tuple[ToolchainFilePart, ...]  # those that are not sound


class LicencePart(msgspec.Struct, frozen=True):
    """A licence."""

    name: str
    text: str
    standing: Acceptance
    brought_by: str


class ShadowPart(msgspec.Struct, frozen=True):
    """A command of which another copy is found first."""

    name: str
    found_first: str


class UserPart(msgspec.Struct, frozen=True):
    """A process that still uses what is wrong, or was replaced."""

    pid: int
    name: str


class ToolchainRecord(msgspec.Struct, frozen=True):
    """A toolchain on a machine."""

    folder: str
    name: str = ""
    version: str = ""
    parts: tuple[ToolchainPart, ...] = ()
    not_built: tuple[str, ...] = ()  # parts that have no build for this machine
    other_hosts: tuple[str, ...] = ()  # builds for other hosts that lie there
    versions: dict[str, int] = {}  # files by version
    leftovers: tuple[str, ...] = ()
    unlisted: int = 0
    licences: tuple[LicencePart, ...] = ()
    due: tuple[Due, ...] = ()
    path_known: bool = True
    path: dict[str, int] = {}  # folders that are not on PATH exactly once, and how often they are
    shadowed: tuple[ShadowPart, ...] = ()
    variables: tuple[VariableState, ...] = ()
    users: tuple[UserPart, ...] = ()
    faults: int = 0
    next: tuple[Message, ...] = ()
    error: Failure | None = None
    schema: Literal["fundamen.toolchain-check/3"] = "fundamen.toolchain-check/3"


def toolchain_record(examination: Examination, following: tuple[Message, ...]) -> ToolchainRecord:
    """A toolchain as JSON has it."""
    contents, reach = examination.contents, examination.reach
    return ToolchainRecord(
        folder=examination.folder,
        name=examination.toolchain.name,
        version=examination.toolchain.version,
        parts=tuple(map(_part, contents.parts)),
        not_built=contents.not_built,
        other_hosts=contents.other_hosts,
        versions=contents.versions,
        leftovers=tuple(each.place for each in contents.leftovers),
        unlisted=contents.unlisted,
        licences=tuple(
            LicencePart(each.licence.name, each.path, each.acceptance, each.brought_by) for each in examination.licences
        ),
        due=examination.due,
        path_known=reach.is_known,
        path={each.folder: each.count for each in reach.paths},
        shadowed=tuple(ShadowPart(each.name, each.first) for each in reach.shadowed),
        variables=reach.variables,
        users=tuple(UserPart(each.pid, each.name) for each in reach.users),
        faults=examination.faults,
        next=following,
    )


def _part(state: PartState) -> ToolchainPart:
    part = state.part
    return ToolchainPart(
        name=part.name,
        version=part.version,
        host=part.host.in_words,
        targets=tuple(map(str, part.targets)),
        verdict=state.verdict,
        count=len(part.files),
        files=tuple(ToolchainFilePart(f.place, f.verdict, f.detail, f.version or None) for f in state.files),
    )
