"""Which side-by-side assemblies a program or library gets, and which DLLs it takes from them.

Source: Microsoft's "Assembly Searching Sequence", "Assembly Versions", "Publisher Configuration" and "Manifest Files
Reference". The component store names each assembly ARCHITECTURE_NAME_TOKEN_VERSION_LANGUAGE_DIGEST.
"""

from collections.abc import Iterator

import msgspec

from fundamen.formats.windows.manifest import (
    AssemblyIdentity,
    Dependency,
    Manifest,
    Version,
    dotted_version,
    read_manifest,
    version_of,
)
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_resources import ResourceType, read_resource
from fundamen.loaders.load_map import Candidate, CandidateOutcome, Resolution
from fundamen.loaders.windows_processes import WINDOWS_FOLDER
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import BinaryKind, Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_STORE = WINDOWS_FOLDER + "\\WinSxS"
_WORDS = {Architecture.X86: "x86", Architecture.X86_64: "amd64", Architecture.AARCH64: "arm64"}
_PROGRAMS_MANIFEST, _LIBRARYS_MANIFEST = 1, 2  # numbers of the manifest resource
_MOST_NESTED = 8
_MOST_BYTES = 1 << 20

Redirections = dict[str, MachinePath]  # DLL name in lower case -> the file that an assembly has for it


class _InStore(msgspec.Struct, frozen=True):
    """One assembly of the component store, as its file name tells."""

    file_name: str
    architecture: str
    version: Version


class Assemblies:
    """The assemblies of one machine, for programs of one architecture."""

    def __init__(self, machine: Machine, architecture: Architecture) -> None:
        """Begin; the store is looked through when an assembly is asked for."""
        self._machine = machine
        self._architecture = _WORDS.get(architecture, str(architecture))
        self._stored: tuple[str, ...] | None = None

    def asked_for(self, path: MachinePath, pe: Pe) -> tuple[Redirections, tuple[Resolution, ...]]:
        """The effects of an image's manifest: redirected DLLs, and the state of each assembly."""
        manifest = self._manifest_of(path, pe)
        if manifest is None:
            return {}, ()
        redirections: Redirections = {}
        resolutions: list[Resolution] = []
        self._follow(manifest, path, redirections, resolutions, 0)
        return redirections, tuple(resolutions)

    def _follow(
        self,
        manifest: Manifest,
        requester: MachinePath,
        redirections: Redirections,
        resolutions: list[Resolution],
        depth: int,
    ) -> None:
        for dependency in manifest.dependencies if depth < _MOST_NESTED else ():
            candidates: list[Candidate] = []
            found = self._find(dependency, self._machine.folder_of(requester), candidates)
            how = Necessity.OPTIONAL if dependency.is_optional else Necessity.REQUIRED
            place = found[0] if found else None
            name = str(dependency.identity)
            kind, sought_as = "side-by-side-assembly", self._sought_as(dependency.identity)
            resolutions.append(Resolution(name, requester, how, tuple(candidates), place, kind, sought_as=sought_as))
            if found:
                _, folder, own = found
                for file in own.files:
                    redirections.setdefault(file.rpartition("\\")[2].lower(), self._machine.join(folder, file))
                self._follow(own, requester, redirections, resolutions, depth + 1)

    def _find(
        self, dependency: Dependency, folder: MachinePath, candidates: list[Candidate]
    ) -> tuple[MachinePath, MachinePath, Manifest] | None:
        """The manifest's place, the folder of the assembly's files, and the manifest; the store goes first."""
        wanted = dependency.identity
        version = self._after_policy(wanted)
        for stored in self._in_store(wanted):
            place = self._machine.join(_STORE, "Manifests", stored.file_name)
            outcome, detail = CandidateOutcome.TAKEN, ""
            if stored.architecture != self._word(wanted):
                outcome, detail = (
                    CandidateOutcome.OTHER_ARCHITECTURE,
                    say("loaders.is-for", architecture=stored.architecture),
                )
            else:
                detail = say(
                    "loaders.version-for",
                    wanted=dotted_version(stored.version),
                    architecture=stored.architecture,
                )
            if outcome is CandidateOutcome.TAKEN and not _serves(stored.version, version):
                outcome = CandidateOutcome.OLDER_VERSION if stored.version < version else CandidateOutcome.OTHER_VERSION
                detail = say("loaders.is-version", v=dotted_version(stored.version))
            candidates.append(Candidate(place, outcome, say("loaders.the-component-store"), detail))
            manifest = self._read(place) if outcome is CandidateOutcome.TAKEN else None
            if manifest is not None:
                return place, self._machine.join(_STORE, stored.file_name.removesuffix(".manifest")), manifest
        for place in self._private_places(wanted, folder):
            manifest = self._read(place)
            if manifest is None or manifest.identity is None or manifest.identity.name.lower() != wanted.name.lower():
                candidates.append(Candidate(place, CandidateOutcome.ABSENT, say("loaders.a-private-assembly")))
                continue
            candidates.append(Candidate(place, CandidateOutcome.TAKEN, say("loaders.a-private-assembly")))
            return place, self._machine.folder_of(place), manifest
        return None

    def _private_places(self, wanted: AssemblyIdentity, folder: MachinePath) -> Iterator[MachinePath]:
        folders = [self._machine.join(folder, wanted.language)] if wanted.language not in {"", "*"} else []
        for searched in (*folders, folder):
            for below in (searched, self._machine.join(searched, wanted.name)):
                yield self._machine.join(below, wanted.name + ".dll")
                yield self._machine.join(below, wanted.name + ".manifest")

    def _in_store(self, wanted: AssemblyIdentity, prefix: str = "") -> list[_InStore]:
        """The assemblies of this name and token in the store, the highest version first."""
        if self._stored is None:
            try:
                self._stored = self._machine.names(self._machine.join(_STORE, "Manifests"))
            except UnreadableError:
                self._stored = ()
        middle = f"_{prefix}{wanted.name}_{wanted.token or 'none'}_".lower()
        found = []
        for name in self._stored:
            architecture, separator, rest = name.lower().partition(middle)
            if separator and "_" not in architecture:
                found.append(_InStore(name, architecture, version_of(rest.partition("_")[0])))
        return sorted(
            found, key=lambda stored: (stored.architecture == self._word(wanted), stored.version), reverse=True
        )

    def _after_policy(self, wanted: AssemblyIdentity) -> Version:
        """The version that a publisher's policy puts in the place of the one that is asked for."""
        major, minor, _, _ = wanted.version
        for policy in self._in_store(wanted, f"policy.{major}.{minor}."):
            if policy.architecture == self._word(wanted):
                manifest = self._read(self._machine.join(_STORE, "Manifests", policy.file_name))
                for dependency in manifest.dependencies if manifest else ():
                    for redirect in dependency.redirects:
                        if redirect.first <= wanted.version <= redirect.last:
                            return redirect.instead
                break  # the highest version of the policy counts
        return wanted.version

    def _sought_as(self, wanted: AssemblyIdentity) -> tuple[str, ...]:
        """Names of the file that brings an assembly: in the store, or for one program alone."""
        stored = f"{self._word(wanted)}_{wanted.name}_{wanted.token or 'none'}_*.manifest"
        return stored, f"{wanted.name}.manifest", f"{wanted.name}.dll"

    def _word(self, wanted: AssemblyIdentity) -> str:
        return self._architecture if wanted.architecture in {"*", ""} else wanted.architecture

    def _manifest_of(self, path: MachinePath, pe: Pe) -> Manifest | None:
        """The manifest inside an image or, for a program without one, beside it."""
        number = _PROGRAMS_MANIFEST if pe.kind is BinaryKind.PROGRAM else _LIBRARYS_MANIFEST
        inside = self._read_embedded(path, pe, number)
        if inside is not None or pe.kind is not BinaryKind.PROGRAM:
            return inside
        return self._read(MachinePath(path + ".manifest"))

    def _read_embedded(self, path: MachinePath, pe: Pe, number: int | None) -> Manifest | None:
        try:
            with self._machine.open(path) as source:
                data = read_resource(source, pe, ResourceType.MANIFEST, number)
            return read_manifest(data) if data is not None else None
        except UnreadableError:
            return None

    def _read(self, place: MachinePath) -> Manifest | None:
        """The manifest at a place: a file of its own, or the resource of a library."""
        if self._machine.look(place).kind is not EntryKind.FILE:
            return None
        try:
            if place.lower().endswith(".dll"):
                pe = self._machine.binary(place)
                return self._read_embedded(place, pe, None) if isinstance(pe, Pe) else None
            return read_manifest(self._machine.content(place, _MOST_BYTES))
        except UnreadableError:
            return None


def _serves(stored: Version, wanted: Version) -> bool:
    """Whether a stored version is taken for a wanted one: the same major and minor, and not older."""
    return stored[:2] == wanted[:2] and stored >= wanted
