"""Which of the installed versions of a shared framework the host picks for the one that is asked for.

Source: the host's document "Framework version resolution"; SemVer 2.0.0, section 11, for the order of versions.
"""

import re
from collections.abc import Iterable
from functools import total_ordering

import msgspec

from fundamen.formats.decimal import read_decimal
from fundamen.formats.managed.runtime_config import FrameworkReference, RollForward

_FORM = re.compile(r"(\d{1,9})\.(\d{1,9})\.(\d{1,9})(?:-([0-9A-Za-z.-]+))?(?:\+[0-9A-Za-z.-]+)?")

_TO_THE_HIGHEST = {RollForward.LATEST_MINOR, RollForward.LATEST_MAJOR}
# How many leading numbers of the version have to stay as they are asked for.
_KEPT = {
    RollForward.DISABLE: 3,
    RollForward.LATEST_PATCH: 2,
    RollForward.MINOR: 1,
    RollForward.LATEST_MINOR: 1,
    RollForward.MAJOR: 0,
    RollForward.LATEST_MAJOR: 0,
}


@total_ordering
class FrameworkVersion(msgspec.Struct, frozen=True):
    """A version of a framework; its order is that of SemVer."""

    numbers: tuple[int, int, int]
    prerelease: tuple[str, ...] = ()

    def __lt__(self, other: "FrameworkVersion") -> bool:
        return self._order() < other._order()

    def __str__(self) -> str:
        return ".".join(map(str, self.numbers)) + ("-" + ".".join(self.prerelease) if self.prerelease else "")

    def _order(self) -> tuple[tuple[int, int, int], bool, tuple[tuple[bool, int, str], ...]]:
        numbers = [read_decimal(part) for part in self.prerelease]
        parts = tuple((n is None, n or 0, p) for n, p in zip(numbers, self.prerelease, strict=True))
        return self.numbers, not self.prerelease, parts


def framework_version(text: str) -> FrameworkVersion | None:
    """A version as it is written; None for what is no version, such as another folder beside those of versions."""
    match = _FORM.fullmatch(text)
    if match is None:
        return None
    prerelease = tuple(match[4].split(".")) if match[4] else ()
    return FrameworkVersion((int(match[1]), int(match[2]), int(match[3])), prerelease)


def accepts(reference: FrameworkReference, version: FrameworkVersion) -> bool:
    """Whether the rule of a reference lets a version stand in for the one that is asked for."""
    wanted = framework_version(reference.version)
    if wanted is None or version < wanted:
        return False
    kept = _KEPT[reference.roll_forward]
    if reference.roll_forward is RollForward.DISABLE:
        return version == wanted
    return version.numbers[:kept] == wanted.numbers[:kept]


def specifier_of(reference: FrameworkReference) -> str:
    """The versions that the rule accepts, as PEP 440 writes them; empty where the reference names no version."""
    wanted = framework_version(reference.version)
    if wanted is None:
        return ""
    if reference.roll_forward is RollForward.DISABLE:
        return f"=={reference.version}"
    kept = wanted.numbers[: _KEPT[reference.roll_forward]]
    below = [f"<{'.'.join(map(str, (*kept[:-1], kept[-1] + 1)))}"] if kept else []
    return ",".join([f">={reference.version}", *below])


def resolve_framework(reference: FrameworkReference, installed: Iterable[FrameworkVersion]) -> FrameworkVersion | None:
    """The installed version that the host picks; None where its rule accepts none.

    Who asks for a release gets a release, if one is acceptable at all.
    """
    wanted = framework_version(reference.version)
    acceptable = sorted(version for version in installed if accepts(reference, version))
    if wanted is not None and not wanted.prerelease:
        acceptable = [version for version in acceptable if not version.prerelease] or acceptable
    if not acceptable:
        return None
    if reference.roll_forward in _TO_THE_HIGHEST:
        return acceptable[-1]
    nearest = acceptable[0]
    if nearest.prerelease:  # has no patches
        return nearest
    return max(version for version in acceptable if version.numbers[:2] == nearest.numbers[:2])
