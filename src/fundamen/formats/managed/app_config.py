"""Read the configuration file of a managed program (PROGRAM.exe.config), a publisher's policy, or machine.config.

Source: Microsoft's "Configuration file schema for the .NET Framework", startup settings and runtime settings.
"""

from xml.etree.ElementTree import Element

import msgspec

from fundamen.formats.bounded_xml import elements_of, read_xml, tag_of
from fundamen.formats.windows.manifest import Redirect, Version, redirects_in, version_of
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_MAX_ASSEMBLIES = 10_000


class SupportedRuntime(msgspec.Struct, frozen=True):
    """One runtime that the program says it can run on; the first that is there is taken."""

    version: str  # such as v4.0; may be empty
    sku: str  # such as .NETFramework,Version=v4.7.2; may be empty


class CodeBase(msgspec.Struct, frozen=True):
    """Where one version of an assembly lies."""

    version: Version
    href: str  # a file URL, or a path below the program's folder


class DependentAssembly(msgspec.Struct, frozen=True):
    """Rules for one assembly."""

    name: str
    token: str  # in lower case; empty where it is not given
    culture: str  # empty for neutral
    redirects: tuple[Redirect, ...]
    code_bases: tuple[CodeBase, ...]
    follows_publisher_policy: bool


class AppConfig(msgspec.Struct, frozen=True):
    """Rules of a configuration file on runtimes and assemblies."""

    supported_runtimes: tuple[SupportedRuntime, ...] = ()
    private_paths: tuple[str, ...] = ()  # folders below the program's, as the file spells them
    assemblies: tuple[DependentAssembly, ...] = ()
    follows_publisher_policy: bool = True


def read_app_config(data: bytes) -> AppConfig:
    """Read a configuration file.

    Raises:
        DamagedFileError: it is no XML, declares entities, or is too large or too deep.
    """
    elements = list(elements_of(read_xml(data, "configuration file")))
    assemblies = [_assembly(element) for element in elements if tag_of(element) == "dependentassembly"]
    if len(assemblies) > _MAX_ASSEMBLIES:
        raise DamagedFileError(
            what=say("formats.the-configuration-file-cannot-be-read"),
            why=say("formats.it-lays-something-down-for-assemblies", count=len(assemblies)),
            do=say("formats.compare-it-with-the-one-in"),
        )
    runtimes = [e for e in elements if tag_of(e) == "supportedruntime"]
    paths = [p for e in elements if tag_of(e) == "probing" for p in e.get("privatePath", "").split(";")]
    bindings = [element for element in elements if tag_of(element) == "assemblybinding"]
    return AppConfig(
        supported_runtimes=tuple(SupportedRuntime(e.get("version", ""), e.get("sku", "")) for e in runtimes),
        private_paths=tuple(path.strip() for path in paths if path.strip()),
        assemblies=tuple(found for found in assemblies if found is not None),
        follows_publisher_policy=all(_follows_policy(element) for element in bindings),
    )


def _assembly(element: Element) -> DependentAssembly | None:
    identity = next((child for child in element if tag_of(child) == "assemblyidentity"), None)
    if identity is None or not identity.get("name"):
        return None
    return DependentAssembly(
        name=identity.get("name", ""),
        token=identity.get("publicKeyToken", "").lower().replace("null", ""),
        culture=identity.get("culture", "").lower().replace("neutral", ""),
        redirects=redirects_in(element),
        code_bases=tuple(
            CodeBase(version_of(child.get("version", "")), child.get("href", ""))
            for child in element
            if tag_of(child) == "codebase"
        ),
        follows_publisher_policy=_follows_policy(element),
    )


def _follows_policy(element: Element) -> bool:
    return all(c.get("apply", "yes").lower() != "no" for c in element if tag_of(c) == "publisherpolicy")
