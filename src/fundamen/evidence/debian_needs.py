"""Compare the dependencies of a Debian package with the installed packages.

Source: Debian Policy, section 7.1, "Syntax of relationship fields", and 7.5, "Virtual packages".
"""

import re
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from fundamen.formats.versions import Clause
from fundamen.messages import Message, say

_ALTERNATIVE = re.compile(
    r"([a-z0-9][a-z0-9+.-]*)(?::([a-z0-9-]+))?\s*(?:\(\s*(<<|<=|=|>=|>>)\s*([^\s()]+)\s*\))?\s*(?:\[[^\]]*\])?"
)
_OPERATORS = {"<<": "<", ">>": ">"}
_MOST_NEEDS = 2_000
MAY_CALL, READS = "may call", "reads"  # fields of scripts: a command that only a run decides about; a file


class PackageNeed(msgspec.Struct, frozen=True):
    """One relationship of a package, with how it stands."""

    field: str  # Depends, Pre-Depends, Conflicts, Breaks; of a script "calls", "may call", "reads"
    text: str  # as the package has it
    is_met: bool
    found: Message


def find_needs(
    fields: Mapping[str, str],
    installed: Mapping[str, Sequence[tuple[str, str]]],
    provided: Mapping[str, Sequence[str]],
) -> Iterator[PackageNeed]:
    """Each relationship of a package's control fields.

    Args:
        fields: of the package.
        installed: (version, architecture) of each package that is installed.
        provided: what installed packages provide besides themselves: name -> versions, empty ones where none is
        reported.
    """
    for field in ("Pre-Depends", "Depends"):
        for text in _parts(fields.get(field, "")):
            found = [_find_alternative(each, installed, provided) for each in text.split("|")]
            is_met = any(holds for holds, _ in found)
            yield PackageNeed(field, text, is_met, next((said for holds, said in found if holds), found[0][1]))
    for field in ("Conflicts", "Breaks"):
        for text in _parts(fields.get(field, "")):
            name = text.partition("(")[0].strip()
            if name in installed and name != fields.get("Package"):
                holds, said = _find_alternative(text, installed, {})
                yield PackageNeed(field, text, not holds, said)


def _parts(text: str) -> list[str]:
    return [part.strip() for part in text.split(",") if part.strip()][:_MOST_NEEDS]


def _find_alternative(
    text: str, installed: Mapping[str, Sequence[tuple[str, str]]], provided: Mapping[str, Sequence[str]]
) -> tuple[bool, Message]:
    """(whether one alternative is met, what is there)."""
    parsed = _ALTERNATIVE.fullmatch(text.strip())
    if parsed is None:
        return False, say("evidence.it-is-not-written-as-a")
    name, _, operator, version = parsed.groups()
    versions = [*(v for v, _ in installed.get(name, ())), *(v for v in provided.get(name, ()) if v or not operator)]
    if not versions:
        return False, say("evidence.is-not-installed", name=name)
    found = ", ".join(filter(None, versions)) or say("evidence.provided-by-another-package")
    there = say("evidence.package-and-version", name=name, version=found)
    if operator is None:
        return True, there
    clause = Clause(_OPERATORS.get(operator, operator), version)
    return any(clause.holds(each) for each in versions if each), there
