"""Files that lock files pin, recognised by their names: wheels, source archives, npm tarballs.

Sources: the binary and source distribution formats (packaging.python.org, "Specifications"); PEP 503 for the names of
projects; npm's tarballs are called by the name without its scope, and the version.
"""

import os
import re
from collections.abc import Iterable

import msgspec
from packaging.utils import InvalidSdistFilename, InvalidWheelFilename, parse_sdist_filename, parse_wheel_filename
from packaging.version import InvalidVersion

from fundamen.model.architecture import Architecture, Platform
from fundamen.model.paths import HostPath

_TARBALL = re.compile(r"^(?:.*-)?(\d[^/]*)\.tgz$")
_PROCESSORS = {
    Architecture.X86_64: ("x86_64", "amd64"),
    Architecture.AARCH64: ("aarch64", "arm64"),
    Architecture.X86: ("i686", "win32", "i386"),
    Architecture.ARM: ("armv7l",),
}
_PLATFORMS = {"linux": Platform.LINUX, "many": Platform.LINUX, "musl": Platform.LINUX, "win": Platform.WINDOWS}
_UNIVERSAL = {"universal2": (Architecture.X86_64, Architecture.AARCH64)}  # PEP 425 tags of macOS with several parts


class ArtefactName(msgspec.Struct, frozen=True):
    """The facts in the name of such a file."""

    project: str  # normalised
    version: str
    tags: frozenset[str]  # of the platforms it is built for; empty where it is for any

    def serves(self, architecture: Architecture) -> bool:
        """Whether it can be used on a processor."""
        return not self.tags or architecture in self.architectures

    @property
    def platform(self) -> Platform:
        """For which platform it is built."""
        found = {
            next((platform for begin, platform in _PLATFORMS.items() if tag.startswith(begin)), Platform.MACOS)
            for tag in self.tags
        }
        return found.pop() if len(found) == 1 else Platform.ANY

    @property
    def architecture(self) -> Architecture:
        """For which processor it is built."""
        return next(iter(self.architectures)) if len(self.architectures) == 1 else Architecture.ANY

    @property
    def architectures(self) -> frozenset[Architecture]:
        """Each processor that its tags name; none where it is for any, or where we know none of their names."""
        return frozenset(architecture for tag in self.tags for architecture in _named_in(tag))


def _named_in(tag: str) -> Iterable[Architecture]:
    for architecture in Architecture:
        marks = _PROCESSORS.get(architecture, (str(architecture),))
        if tag in marks or tag.endswith(tuple(f"_{mark}" for mark in marks)):
            return (architecture,)
    return next((processors for mark, processors in _UNIVERSAL.items() if tag.endswith(f"_{mark}")), ())


class Artefact(msgspec.Struct, frozen=True):
    """Such a file that lies on this host."""

    path: HostPath
    name: ArtefactName


def find_artefacts(places: Iterable[HostPath]) -> tuple[Artefact, ...]:
    """All such files in some folders, or at these places themselves. Raises: OSError."""
    paths = (
        HostPath(os.path.join(place, name) if name else place)
        for place in places
        for name in (sorted(os.listdir(place)) if os.path.isdir(place) else [""])
    )
    return tuple(
        Artefact(path, named) for path in paths if (named := read_artefact_name(os.path.basename(path))) is not None
    )


def read_artefact_name(name: str) -> ArtefactName | None:
    """The facts in a file's name; None where it is the name of no such file."""
    try:
        if name.endswith(".whl"):
            project, version, _, tags = parse_wheel_filename(name)
            platforms = frozenset(tag.platform for tag in tags)
            return ArtefactName(project, str(version), frozenset() if "any" in platforms else platforms)
        if name.endswith((".tar.gz", ".zip")):
            project, version = parse_sdist_filename(name)
            return ArtefactName(project, str(version), frozenset())
    except (InvalidWheelFilename, InvalidSdistFilename, InvalidVersion):
        return None
    found = _TARBALL.match(name)
    if found is None:
        return None
    return ArtefactName(normalise(name[: -len(found[1]) - len("-.tgz")]), found[1], frozenset())


def normalise(project: str) -> str:
    """A project's name in the form in which names are compared."""
    return re.sub(r"[-_.]+", "-", project.rpartition("/")[2]).lower()


def pattern_of(project: str) -> str:
    """The pattern of the names of a project's files; ``*`` matches anything, so more may fit than are its own."""
    return f"{normalise(project).replace('-', '*')}-*"
