"""The contract of ``clues --json``."""

from collections.abc import Sequence
from typing import Literal

import msgspec

from fundamen.clues.advice import likely_causes, means_of
from fundamen.clues.behind import Behind
from fundamen.clues.findings import Finding
from fundamen.clues.lost_files import LostFile
from fundamen.clues.mentions import Mention
from fundamen.clues.reading import Reading
from fundamen.messages import Message
from fundamen.report.contracts.line import Failure
from fundamen.report.contracts.trust import PublisherPart, publisher_part


class CodePart(msgspec.Struct, frozen=True, kw_only=True):
    """A code that a line names."""

    name: str
    value: int
    space: str  # by whom it is numbered: "ntstatus", "hresult", "win32", "posix", "ldap" ...
    means: str


class LinePart(msgspec.Struct, frozen=True, kw_only=True):
    """A line that says something."""

    line: int  # from 1
    text: str  # with single spaces, without control characters
    says: str | None  # the entry of the knowledge that it was recognised by; null where its words are not known
    role: str  # "cause", "failure", "follows"
    about: str  # "missing", "wrong-architecture", "corrupt", "outdated", "untrusted", "blocked", "full" ...
    means: str
    guess: bool  # it only reads much like that entry
    holes: dict[str, str]  # "component", "program", "path", "symbol" ... as the line spells them
    codes: tuple[CodePart, ...]


class LikelyPart(msgspec.Struct, frozen=True, kw_only=True):
    """A cause that would explain the decisive line."""

    cause: str
    because: Message  # what speaks for it
    borne_out: bool  # by what lies on the machine


class PlacePart(msgspec.Struct, frozen=True, kw_only=True):
    """Where a named component lies on the machine."""

    name: str
    path: str
    architecture: str | None
    detail: Message | None
    verdict: str  # "verified", "unverified", "corrupt" or "blocked"


class MeantPart(msgspec.Struct, frozen=True, kw_only=True):
    """A name that lies nowhere, and one on the machine that is spelled much like it."""

    name: str
    path: str


class SignedPart(msgspec.Struct, frozen=True, kw_only=True):
    """A named file, and whose signature it carries."""

    path: str
    publisher: PublisherPart | None


class BehindPart(msgspec.Struct, frozen=True, kw_only=True):
    """The background of a text on the machine."""

    traced: tuple[str, ...]  # programs
    signed: tuple[SignedPart, ...]  # files, where the text is about trust
    faults: int
    reason: Message | None  # what the message says, and what is behind it
    places: tuple[PlacePart, ...]
    absent: tuple[str, ...]
    available: tuple[str, ...]  # packages of the archive that hold what is not installed, by their names
    lost: tuple[LostFile, ...]  # files that are gone, and which installed package has brought them
    meant: tuple[MeantPart, ...]
    versions: tuple[MeantPart, ...]  # the same with another version number


class CluesRecord(msgspec.Struct, frozen=True, kw_only=True):
    """One text, for ``clues --json``."""

    schema: Literal["fundamen.clues/4"] = "fundamen.clues/4"
    input: str  # the log's path; "-" for standard input; "message" for --text
    lines: int = 0
    encoding: str = ""
    decisive: LinePart | None = None  # the first cause
    also: tuple[LinePart, ...] = ()
    follows: tuple[LinePart, ...] = ()
    earlier: tuple[LinePart, ...] = ()  # of a run before, or overcome
    read_until: int | None = None  # the line behind which no more complaints were read; null where all were
    ended_well: bool = False
    likely: tuple[LikelyPart, ...] = ()  # the likeliest first
    named: tuple[Mention, ...] = ()
    behind: BehindPart | None = None  # null where nothing was looked up
    faults: int = 0  # causes that the text names
    next: tuple[Message, ...] = ()
    error: Failure | None = None


class CalledRecord(msgspec.Struct, frozen=True, kw_only=True):
    """A line that was called out as it came, for ``clues --follow --json``; the records of the whole texts follow."""

    schema: Literal["fundamen.clues-line/1"] = "fundamen.clues-line/1"
    input: str  # the log's path
    said: LinePart


def called_record(path: str, finding: Finding) -> CalledRecord:
    """The contract's form of a line that was called out."""
    return CalledRecord(input=path, said=_line(finding))


def clues_record(reading: Reading, behind: Behind | None, next_steps: Sequence[Message]) -> CluesRecord:
    """The contract's form of a reading."""
    return CluesRecord(
        input=reading.name,
        lines=reading.lines,
        encoding=reading.encoding,
        decisive=_line(reading.decisive) if reading.decisive is not None else None,
        also=tuple(map(_line, reading.also)),
        follows=tuple(map(_line, reading.follows)),
        earlier=tuple(map(_line, reading.earlier)),
        read_until=reading.read_until,
        ended_well=reading.ended_well,
        likely=tuple(
            LikelyPart(cause=each.cause, because=each.because, borne_out=each.is_borne_out)
            for each in likely_causes(reading, behind)
        ),
        named=reading.mentions,
        behind=_behind(behind) if behind is not None else None,
        faults=len(reading.also) + (reading.decisive is not None),
        next=tuple(next_steps),
    )


def _line(finding: Finding) -> LinePart:
    return LinePart(
        line=finding.line,
        text=finding.text,
        says=finding.entry.id if finding.entry is not None else None,
        role=finding.role,
        about=finding.entry.about if finding.entry is not None else "failed",
        means=means_of(finding),
        guess=finding.is_guess,
        holes=dict(finding.holes),
        codes=tuple(CodePart(name=c.name, value=c.value, space=c.space, means=c.means) for c in finding.codes),
    )


def _behind(behind: Behind) -> BehindPart:
    return BehindPart(
        traced=tuple(trace.program for trace in behind.traces),
        signed=tuple(
            SignedPart(path=each.path, publisher=publisher_part(each.publisher) if each.publisher else None)
            for each in behind.signed
        ),
        faults=sum(len(trace.faults) for trace in behind.traces),
        reason=behind.reason or None,
        places=tuple(
            PlacePart(
                name=place.name,
                path=place.path,
                architecture=place.architecture or None,
                detail=place.detail,
                verdict=place.verdict,
            )
            for place in behind.places
        ),
        absent=behind.absent,
        lost=behind.lost,
        available=behind.available,
        meant=tuple(MeantPart(name=name, path=path) for name, path in behind.meant),
        versions=tuple(MeantPart(name=name, path=path) for name, path in behind.versions),
    )
