"""Read side-by-side manifests: which assemblies a program or library asks for, and which files an assembly has.

Source: Microsoft's "Manifest Files Reference" (application, assembly and publisher configuration manifests).
"""

import base64
from xml.etree.ElementTree import Element

import msgspec

from fundamen.formats.bounded_xml import elements_of, read_xml, tag_of
from fundamen.formats.cursor import damage_error
from fundamen.messages import say

_MAX_DEPENDENCIES = 1000
_MOST_INSIDE = 50  # elements of a file
_ALGORITHMS = {name: name for name in ("md5", "sha1", "sha256", "sha384", "sha512")}

Version = tuple[int, int, int, int]


class AssemblyIdentity(msgspec.Struct, frozen=True):
    """An assembly's identity, as a manifest writes it; names are compared without case."""

    name: str
    version: Version
    architecture: str  # "x86", "amd64", "arm64", "msil", "*" for that of the process, or ""
    token: str  # publicKeyToken; empty for an assembly that no one signed
    language: str  # "" or "*" for neutral

    def __str__(self) -> str:
        architecture = "any architecture" if self.architecture in {"*", ""} else self.architecture
        parts = [self.name, dotted_version(self.version), architecture]
        return ", ".join((*parts, say("formats.key", token=self.token)) if self.token else parts)


class Redirect(msgspec.Struct, frozen=True):
    """A range of versions, both ends included, for which another one is taken."""

    first: Version
    last: Version
    instead: Version


class Dependency(msgspec.Struct, frozen=True):
    """An assembly that is asked for."""

    identity: AssemblyIdentity
    is_optional: bool
    redirects: tuple[Redirect, ...]  # of a publisher's policy


class ManifestFile(msgspec.Struct, frozen=True):
    """One file of an assembly, relative to the manifest's folder."""

    name: str
    algorithm: str = ""  # as hashlib names it; empty where no digest is given, or none that is known
    digest: str = ""  # lower-case hexadecimal


class Manifest(msgspec.Struct, frozen=True):
    """One manifest."""

    identity: AssemblyIdentity | None
    dependencies: tuple[Dependency, ...]
    listed: tuple[ManifestFile, ...]

    @property
    def files(self) -> tuple[str, ...]:
        """The names of the assembly's files, relative to the manifest's folder."""
        return tuple(file.name for file in self.listed)


def read_manifest(data: bytes) -> Manifest:
    """Read a manifest of any of the three kinds.

    Raises:
        DamagedFileError: it is no XML, declares entities, or is too large or too deep.
    """
    root = read_xml(data, "manifest")
    dependencies = [
        _dependency(dependent, is_optional=element.get("optional", "").lower() == "yes")
        for element in elements_of(root)
        if tag_of(element) == "dependency"
        for dependent in element
        if tag_of(dependent) == "dependentassembly"
    ]
    if len(dependencies) > _MAX_DEPENDENCIES:
        raise damage_error("The manifest", say("formats.it-asks-for-assemblies", count=len(dependencies)))
    own = next((child for child in root if tag_of(child) == "assemblyidentity"), None)
    return Manifest(
        identity=_identity(own) if own is not None else None,
        dependencies=tuple(found for found in dependencies if found is not None),
        listed=tuple(_file(child) for child in root if tag_of(child) == "file" and child.get("name")),
    )


def _file(element: Element) -> ManifestFile:
    """A file with its digest: in attributes, or as an XML signature has it; of the latter only bytes as they lie."""
    name = element.get("name", "")
    algorithm = _ALGORITHMS.get(element.get("hashalg", "").lower().replace("-", ""), "")
    if algorithm and element.get("hash"):
        return ManifestFile(name, algorithm, element.get("hash", "").lower())
    inside = {tag_of(child): child for _, child in zip(range(_MOST_INSIDE), element.iter(), strict=False)}
    method, value, transform = (inside.get(tag) for tag in ("digestmethod", "digestvalue", "transform"))
    if method is None or value is None:
        return ManifestFile(name)
    if transform is not None and not transform.get("Algorithm", "").endswith("Identity"):
        return ManifestFile(name)
    algorithm = _ALGORITHMS.get(method.get("Algorithm", "").rpartition("#")[2].lower(), "")
    try:
        digest = base64.b64decode("".join((value.text or "").split()), validate=True).hex()
    except ValueError:
        return ManifestFile(name)
    return ManifestFile(name, algorithm, digest) if algorithm else ManifestFile(name)


def version_of(text: str) -> Version:
    """A version of up to four numbers; what is no number counts as 0."""
    numbers = [int(part) if part.isdecimal() and len(part) < 6 else 0 for part in text.split(".")[:4]]  # noqa: PLR2004 - 65535
    major, minor, build, revision = (*numbers, 0, 0, 0, 0)[:4]
    return major, minor, build, revision


def dotted_version(version: Version) -> str:
    """A version as it is written."""
    return ".".join(map(str, version))


def _dependency(element: Element, *, is_optional: bool) -> Dependency | None:
    identity = next((_identity(child) for child in element if tag_of(child) == "assemblyidentity"), None)
    if identity is None:
        return None
    return Dependency(identity, is_optional, redirects_in(element))


def redirects_in(element: Element) -> tuple[Redirect, ...]:
    """The ranges of versions that an element's ``bindingRedirect`` children redirect."""
    redirects = []
    for child in element:
        if tag_of(child) == "bindingredirect":
            first, _, last = child.get("oldVersion", "").partition("-")
            redirects.append(
                Redirect(version_of(first), version_of(last or first), version_of(child.get("newVersion", "")))
            )
    return tuple(redirects)


def _identity(element: Element) -> AssemblyIdentity:
    return AssemblyIdentity(
        name=element.get("name", ""),
        version=version_of(element.get("version", "")),
        architecture=element.get("processorArchitecture", "").lower(),
        token=element.get("publicKeyToken", "").lower(),
        language=element.get("language", "").lower().replace("neutral", ""),
    )
