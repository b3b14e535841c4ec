"""Read side-by-side manifests: which assemblies a program or library asks for, and which files an assembly has.

Source: Microsoft's "Manifest Files Reference" (application, assembly and publisher configuration manifests).
"""

from collections.abc import Iterator
from xml.etree.ElementTree import Element, ParseError

import msgspec
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from fundamen.model.errors import DamagedFileError

_MAX_BYTES = 1 << 20
_MAX_DEPENDENCIES = 1000
_MAX_DEPTH = 64

Version = tuple[int, int, int, int]


class Identity(msgspec.Struct, frozen=True):
    """An assembly's identity, as a manifest writes it; names are compared without case."""

    name: str
    version: Version
    architecture: str  # "x86", "amd64", "arm64", "msil", "*" for that of the process, or ""
    token: str  # publicKeyToken; empty for an assembly that nobody signed
    language: str  # "" or "*" for neutral

    def __str__(self) -> str:
        architecture = "any architecture" if self.architecture in {"*", ""} else self.architecture
        parts = [self.name, dotted(self.version), architecture]
        return ", ".join((*parts, f"key {self.token}") if self.token else parts)


class Redirect(msgspec.Struct, frozen=True):
    """A range of versions, both ends included, for which another one is taken."""

    first: Version
    last: Version
    instead: Version


class Dependency(msgspec.Struct, frozen=True):
    """An assembly that is asked for."""

    identity: Identity
    is_optional: bool
    redirects: tuple[Redirect, ...]  # of a publisher's policy


class Manifest(msgspec.Struct, frozen=True):
    """One manifest."""

    identity: Identity | None
    dependencies: tuple[Dependency, ...]
    files: tuple[str, ...]  # of the assembly, relative to the manifest's folder


def read_manifest(data: bytes) -> Manifest:
    """Read a manifest of any of the three kinds.

    Raises:
        DamagedFileError: it is no XML, declares entities, or is too large or too deep.
    """
    if len(data) > _MAX_BYTES:
        raise _damaged(f"it has {len(data)} bytes")
    try:
        root = fromstring(data.rstrip(b"\0 \r\n"), forbid_dtd=True)
    except (ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise _damaged(f"{type(error).__name__}: {error}") from error
    elements = list(_below(root, 0))
    dependencies = [
        _dependency(dependent, is_optional=element.get("optional", "").lower() == "yes")
        for element in elements
        if _tag(element) == "dependency"
        for dependent in element
        if _tag(dependent) == "dependentassembly"
    ]
    if len(dependencies) > _MAX_DEPENDENCIES:
        raise _damaged(f"it asks for {len(dependencies)} assemblies")
    own = next((child for child in root if _tag(child) == "assemblyidentity"), None)
    return Manifest(
        identity=_identity(own) if own is not None else None,
        dependencies=tuple(found for found in dependencies if found is not None),
        files=tuple(name for child in root if _tag(child) == "file" and (name := child.get("name", ""))),
    )


def version_of(text: str) -> Version:
    """A version of up to four numbers; what is no number counts as 0."""
    numbers = [int(part) if part.isdigit() and len(part) < 6 else 0 for part in text.split(".")[:4]]  # noqa: PLR2004 - 65535
    major, minor, build, revision = (*numbers, 0, 0, 0, 0)[:4]
    return major, minor, build, revision


def dotted(version: Version) -> str:
    """A version as it is written."""
    return ".".join(map(str, version))


def _dependency(element: Element, *, is_optional: bool) -> Dependency | None:
    identity = next((_identity(child) for child in element if _tag(child) == "assemblyidentity"), None)
    if identity is None:
        return None
    redirects = []
    for child in element:
        if _tag(child) == "bindingredirect":
            first, _, last = child.get("oldVersion", "").partition("-")
            redirects.append(
                Redirect(version_of(first), version_of(last or first), version_of(child.get("newVersion", "")))
            )
    return Dependency(identity, is_optional, tuple(redirects))


def _identity(element: Element) -> Identity:
    return Identity(
        name=element.get("name", ""),
        version=version_of(element.get("version", "")),
        architecture=element.get("processorArchitecture", "").lower(),
        token=element.get("publicKeyToken", "").lower(),
        language=element.get("language", "").lower().replace("neutral", ""),
    )


def _below(element: Element, depth: int) -> Iterator[Element]:
    if depth > _MAX_DEPTH:
        raise _damaged(f"it is nested more than {_MAX_DEPTH} levels deep")
    for child in element:
        yield child
        yield from _below(child, depth + 1)


def _tag(element: Element) -> str:
    return element.tag.rpartition("}")[2].lower() if isinstance(element.tag, str) else ""


def _damaged(why: str) -> DamagedFileError:
    return DamagedFileError(
        what="The manifest cannot be read", why=why, do="Compare it with the one in its publisher's package."
    )
