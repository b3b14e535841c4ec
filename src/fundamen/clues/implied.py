"""Give what a message implies without naming it: ends of paths and packages, by the knowledge's templates."""

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress

from fundamen.clues.findings import Finding
from fundamen.knowledge.entries import KnownMessage

_HOLE = re.compile(r"\{(\w+)(?::(lower|first|package|prefix|top))?\}")


def implied_files(finding: Finding) -> Iterator[str]:
    """The ends of paths that a message implies."""
    return _fill_templates(finding, finding.entry.files if isinstance(finding.entry, KnownMessage) else ())


def implied_packages(finding: Finding) -> Iterator[str]:
    """The packages that hold what a message is about, by the names that Debian's policies give them."""
    return _fill_templates(finding, finding.entry.packages if isinstance(finding.entry, KnownMessage) else ())


def implied_plug_ins(finding: Finding) -> Iterator[str]:
    """Where the plug-ins lie that a message is about, counted from a folder of libraries; parts may be patterns."""
    return _fill_templates(finding, finding.entry.plug_ins if isinstance(finding.entry, KnownMessage) else ())


def _fill_templates(finding: Finding, templates: Sequence[str]) -> Iterator[str]:
    for template in templates:
        with suppress(KeyError):  # a part that the message does not name
            yield _HOLE.sub(lambda hole: _spell(finding.holes[hole[1]], hole[2]), template)


def _spell(text: str, how: str | None) -> str:
    """The value of a hole in the spelling that a template asks for."""
    match how:
        case "lower":
            return text.lower()
        case "first":
            return text[:1]
        case "package":
            return re.sub(r"::|[/_]", "-", text.removesuffix(".so").lstrip("@")).lower()
        case "prefix":
            return text.partition("_")[0].lower()
        case "top":
            return re.split(r"[./]", text)[0].replace("_", "-").lower()
        case _:
            return text
