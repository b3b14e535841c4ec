"""Identify a unit on installation media by its own statements, and find the places of its files."""

import re

import msgspec

from fundamen.evidence.debian_contents import DEBIAN_NAMES
from fundamen.formats.archives.container import ContainerKind
from fundamen.formats.byte_source import ByteSource
from fundamen.messages import say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.package import NEUTRAL, UNKNOWN_PUBLISHER, UNKNOWN_VERSION, Base

# Language identifiers (MS-LCID): 0, 127 and 1024 are no language; US English is what a publisher translates from.
_NEUTRAL_LANGUAGES = {0, 127, 1024, 1033}
_LANGUAGE_PACK = re.compile(r"language[ _-]?pack|lang[ _-]?pack", re.IGNORECASE)
_FOR_DEVELOPERS = re.compile(
    r"\b(?:sdk|(?:developer|targeting|debugging)[ _-]?(?:pack|kit|symbols|tools)|"
    r"software[ _-]development[ _-]kit|reference[ _-]assemblies|devel)\b|-(?:dev|dbg|dbgsym)$",
    re.IGNORECASE,
)
_NO_NAME = "a package without a name"

# Windows Installer reference, "System Folder Properties"; what is not among them counts from the program's folder.
_FOLDERS: dict[str, tuple[Base, str]] = {
    "SystemFolder": (Base.SYSTEM, ""),
    "System64Folder": (Base.SYSTEM, ""),
    "WindowsFolder": (Base.ROOT, "Windows"),
    "FontsFolder": (Base.ROOT, "Windows/Fonts"),
    "CommonAppDataFolder": (Base.ROOT, "ProgramData"),
    "ProgramFilesFolder": (Base.ROOT, "Program Files (x86)"),
    "ProgramFiles64Folder": (Base.ROOT, "Program Files"),
    "CommonFilesFolder": (Base.ROOT, "Program Files (x86)/Common Files"),
    "CommonFiles64Folder": (Base.ROOT, "Program Files/Common Files"),
}
_USUAL_PLACES = {Platform.WINDOWS: Base.PROGRAM, Platform.LINUX: Base.SYSTEM, Platform.MACOS: Base.PROGRAM}


class Proof(msgspec.Struct, frozen=True):
    """Why a unit may be believed, or why not."""

    how: str  # what vouches for it; empty where nothing does
    why: str  # why it may not be believed; empty where it may
    publisher: str = ""  # who signed it, as the certificate has it

    @property
    def is_proven(self) -> bool:
        """Whether it may be believed."""
        return not self.why


class UnitIdentity(msgspec.Struct, frozen=True):
    """The identity of a unit, as it states it."""

    publisher: str
    name: str
    version: str
    language: str  # neutral, or that of a language pack
    stated: "Stated | None" = None  # what an install package's own tables say


class Stated(msgspec.Struct, frozen=True):
    """The statements of an install package; its packager cannot override them."""

    name: str
    version: str  # empty where it says nothing
    processor: str = ""  # as the format calls it; empty where it says nothing
    architecture: Architecture | None = None  # None where it is for any, or for one that is not known here


def identify(
    title: str,
    kind: ContainerKind | None,
    source: ByteSource | None,
    strings: dict[str, str],
    version: str,
    language: int,
) -> UnitIdentity:
    """Identify a unit: by its own tables where it has some, otherwise by the version resource of the needed file.

    Args:
        title: where the unit lies on the medium.
        kind: of the container; None for a folder.
        source: the container.
        strings: of the needed file's version resource.
        version: likewise; empty where it has none.
        language: likewise; 0 where it has none.
    """
    if kind is ContainerKind.MSI and source is not None:
        return _identity_of_msi(source, title)
    if kind is ContainerKind.DEBIAN and source is not None:
        from fundamen.formats.archives.debian_package import read_debian_package  # noqa: PLC0415 - only where one is met

        package = read_debian_package(source)
        built_for = {name: architecture for architecture, name in DEBIAN_NAMES.items()}.get(package.architecture)
        stated = Stated(package.name, package.version, package.architecture, built_for)
        return UnitIdentity("Debian", package.name, package.version, NEUTRAL, stated)
    name = strings.get("ProductName", "").strip() or title.rpartition(": ")[2].rpartition("/")[2] or _NO_NAME
    publisher = strings.get("CompanyName", "").strip() or UNKNOWN_PUBLISHER
    return UnitIdentity(publisher, name[:200], (version or UNKNOWN_VERSION)[:200], _language(name, language))


def _identity_of_msi(source: ByteSource, title: str) -> UnitIdentity:
    from fundamen.formats.archives.compound_file import CompoundFile  # noqa: PLC0415 - only where one is met
    from fundamen.formats.archives.msi_database import read_database  # noqa: PLC0415

    database = read_database(CompoundFile(source), say("sources.the-install-package", title=printable(title)))
    own_name = database.property("ProductName")
    name = own_name or title.rpartition("/")[2]
    stated = database.property("ProductLanguage") or database.template.rpartition(";")[2].partition(",")[0]
    language = int(stated) if stated.isascii() and stated.isdigit() else 0
    publisher = database.property("Manufacturer") or UNKNOWN_PUBLISHER
    version = database.property("ProductVersion") or UNKNOWN_VERSION
    # The template says for which kind of system it is; what is for x86 may bring files for others.
    own = Stated(own_name, database.property("ProductVersion")) if own_name else None
    return UnitIdentity(publisher[:200], name[:200], version[:200], _language(name, language), own)


def _language(name: str, language: int) -> str:
    """The language of a package; a language pack says so, or is not made in the language that others come from."""
    if language in _NEUTRAL_LANGUAGES and not _LANGUAGE_PACK.search(name):
        return NEUTRAL
    import locale  # noqa: PLC0415 - only for what is not neutral

    known = locale.windows_locale.get(language, say("sources.number", language=language))
    return "language pack" if language in _NEUTRAL_LANGUAGES else known.replace("_", "-")


def is_for_developers(*names: str) -> bool:
    """Whether a package calls itself one to build or debug with, as publishers word it."""
    return any(_FOR_DEVELOPERS.search(name) for name in names)


def place_of_packed(
    path: str, kind: ContainerKind | None, folder: str, platform: Platform, asked: str
) -> tuple[Base, str]:
    """Where a file of a unit belongs: (base, place below it).

    Args:
        path: within the container or medium.
        kind: of the container; None for a folder.
        folder: which folder of the medium the unit is; empty where it is a container.
        platform: for which it is made.
        asked: where the technician wants loose files, as ``{system}/x``; empty for the usual place.
    """
    if kind is ContainerKind.DEBIAN:
        return Base.ROOT, path
    if kind is ContainerKind.MSI:
        first, _, rest = path.partition("/")
        base, below = _FOLDERS.get(first, (Base.PROGRAM, ""))
        return base, f"{below}/{rest}".lstrip("/")
    base, below = read_place(asked) if asked else (_USUAL_PLACES[platform], "")
    own = path[len(folder) :].lstrip("/") if folder and path.startswith(f"{folder}/") else path
    return base, f"{below}/{own.rpartition('/')[2] if base is Base.SYSTEM else own}".lstrip("/")


def read_place(typed: str) -> tuple[Base, str]:
    """A place from its typed form: (base, path below it).

    Raises:
        UsageError: it begins with no base.
    """
    for base in Base:
        marker = f"{{{base}}}"
        if typed == marker or typed.startswith(marker + "/"):
            return base, typed.removeprefix(marker).strip("/")
    raise UsageError(
        what=say("sources.the-place-cannot-be-used", typed=printable(typed)),
        why=say("sources.it-begins-with-none-of-and"),
        do=say("sources.write-it-as-for-example-lib"),
    )
