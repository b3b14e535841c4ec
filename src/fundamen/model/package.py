"""Publishers' packages as a signed catalogue lists them.

These records are also what a catalogue holds on disk, as JSON: one file a package (docs/formats/catalogue.md).
"""

from enum import StrEnum
from fnmatch import fnmatchcase
from typing import Annotated

import msgspec

from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture, Platform

Sha256 = Annotated[str, msgspec.Meta(pattern="^[0-9a-f]{64}$")]
Word = Annotated[str, msgspec.Meta(min_length=1, max_length=200)]
Account = Annotated[str, msgspec.Meta(max_length=100)]  # the name of a user or group; empty for the folder's owner

NEUTRAL = "neutral"
UNKNOWN_PUBLISHER, UNKNOWN_VERSION = "unknown", "0"  # of what a medium does not say
UNTRUSTED = "untrusted: "  # how the reason begins of a withdrawal for which what is installed is not trusted either


class Base(StrEnum):
    """Where on a machine a package file's place is counted from."""

    ROOT = "root"  # the machine's root, or its system drive
    PROGRAM = "program"  # the folder of the program that is being restored
    SYSTEM = "system"  # the folder where the loader looks for system libraries of the package's architecture


class PackageFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One file of a package: its bytes by size and digest, and where it belongs."""

    name: Word  # the component's own name: SONAME or DLL name where it has one, otherwise the file name
    base: Base
    place: Annotated[str, msgspec.Meta(min_length=1, max_length=1000)]  # relative to base, parts separated by "/"
    size: Annotated[int, msgspec.Meta(ge=0)]  # bytes
    sha256: Sha256
    executable: bool = False
    mode: Annotated[int, msgspec.Meta(ge=0, le=0o7777)] | None = None  # permission bits, where the publisher says
    owner: Account = ""  # to whom it belongs, where the publisher says
    group: Account = ""  # likewise

    @property
    def names(self) -> tuple[str, ...]:
        """Names of it in needs: its own, that of the file, and the path where it is known."""
        own = (self.name, self.place.rpartition("/")[2])
        return (*own, *_path_of(self.base, self.place))

    def answers_to(self, name: str) -> bool:
        """Whether a need of this name, or of this path, means this file.

        Names are compared without case, ``*`` stands for anything.
        """
        if name.startswith("/"):
            return name in _path_of(self.base, self.place)
        own = {self.name.lower(), self.place.rpartition("/")[2].lower()}
        return any(fnmatchcase(each, name.lower()) for each in own) if "*" in name else name.lower() in own


class PackageLink(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One symbolic link of a package."""

    base: Base
    place: Annotated[str, msgspec.Meta(min_length=1, max_length=1000)]  # as of a file
    target: Annotated[str, msgspec.Meta(min_length=1, max_length=1000)]  # as it stands in the link

    @property
    def names(self) -> tuple[str, ...]:
        """Names of it in needs: the path, where it is known; a library's need means the file behind the link."""
        return _path_of(self.base, self.place)

    def answers_to(self, name: str) -> bool:
        """Whether a need of this path means this link."""
        return name in self.names


class PackageFolder(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One folder of a package."""

    base: Base
    place: Annotated[str, msgspec.Meta(min_length=1, max_length=1000)]  # as of a file
    mode: Annotated[int, msgspec.Meta(ge=0, le=0o7777)]  # permission bits
    owner: Account = ""  # as of a file
    group: Account = ""

    @property
    def names(self) -> tuple[str, ...]:
        """Names of it in needs, as of a link."""
        return _path_of(self.base, self.place)

    def answers_to(self, name: str) -> bool:
        """Whether a need of this path means this folder."""
        return name in self.names


class Package(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One publisher's package in one version, for one architecture: the unit of restoration."""

    publisher: Word
    name: Word
    version: Word
    platform: Platform
    architecture: Architecture
    files: Annotated[tuple[PackageFile, ...], msgspec.Meta(min_length=1, max_length=100_000)]
    language: Word = NEUTRAL
    is_for_developers: bool = False  # an edition to build or debug with, not the one that programs depend on
    withdrawn: str | None = None  # why the package must no longer be used
    unproven: str | None = None  # why no trusted source knows it; such a package is only shown
    proven_by: str = ""  # what vouches for it where that is not the source it comes from
    links: Annotated[tuple[PackageLink, ...], msgspec.Meta(max_length=100_000)] = ()
    folders: Annotated[tuple[PackageFolder, ...], msgspec.Meta(max_length=100_000)] = ()

    @property
    def is_untrusted(self) -> bool:
        """Whether it was withdrawn because it must not be trusted, and not only because something better came."""
        return self.withdrawn is not None and self.withdrawn.startswith(UNTRUSTED)

    @property
    def entries(self) -> tuple["PackageEntry", ...]:
        """All that lies in it."""
        return (*self.files, *self.links, *self.folders)

    @property
    def name_and_version(self) -> str:
        """The name, with the version if it is known."""
        return self.name if self.version == UNKNOWN_VERSION else f"{self.name} {self.version}"

    @property
    def title(self) -> Message:
        """The package as a technician would say it."""
        language = UNSAID if self.language == NEUTRAL else say("model.language", language=self.language)
        processor = "" if self.platform is Platform.ANY else f" {self.architecture}"
        return say(
            "model.for",
            name=self.name_and_version,
            words=self.platform.in_words,
            processor=processor,
            language=language,
        )

    @property
    def title_and_publisher(self) -> Message:
        """The same with its publisher, if it is known."""
        if self.publisher == UNKNOWN_PUBLISHER:
            return self.title
        return say("model.by", title=self.title, publisher=self.publisher)


PackageEntry = PackageFile | PackageLink | PackageFolder


def _path_of(base: Base, place: str) -> tuple[str, ...]:
    """The whole path of something that is counted from the root; of what is not, no one knows it beforehand."""
    return (f"/{place}",) if base is Base.ROOT else ()
