"""Which assembly a program on the .NET Framework gets for a reference.

Source: Microsoft's "How the Runtime Locates Assemblies" (configuration files, the global assembly cache, code bases,
probing) and "Redirecting Assembly Versions" (the program's, the publisher's and the machine's, in this order).
"""

import ntpath
from collections.abc import Iterator
from urllib.parse import unquote, urlsplit

import msgspec

from fundamen.formats.managed.app_config import AppConfig, DependentAssembly, read_app_config
from fundamen.formats.managed.cli_header import AssemblyName
from fundamen.formats.windows.manifest import Version, dotted_version, version_of
from fundamen.loaders.assembly_files import AssemblyFile, AssemblyFiles, at_call_of
from fundamen.loaders.load_map import Candidate, CandidateOutcome, Resolution
from fundamen.loaders.net_framework import FRAMEWORK_TOKENS, Framework, Generation
from fundamen.loaders.windows_loading import Loading
from fundamen.loaders.windows_processes import WINDOWS_FOLDER
from fundamen.machine.machine import EntryKind
from fundamen.messages import UNSAID, Message, join_clauses, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_BYTES = 4 << 20
_CORE = "mscorlib"  # the one assembly that lies beside the runtime and is always that generation's own
_NARROW = {Architecture.X86, Architecture.ARM}


class _Cached(msgspec.Struct, frozen=True):
    """One assembly in the global assembly cache, as its folder's name tells."""

    folder: MachinePath
    version: Version


class AssemblyBinding:
    """The assemblies of one program on the .NET Framework."""

    def __init__(self, loading: Loading, files: AssemblyFiles, framework: Framework, config: AppConfig) -> None:
        """Begin, for a program that was given a framework, with its configuration file."""
        self._machine = loading.machine
        self._files = files
        self._framework = framework
        self._config = config
        self._process = loading.architecture
        self._folder = self._machine.folder_of(loading.program)
        place = self._machine.join(framework.folder, "Config", "machine.config")
        self._machine_config = self._read_config(place)
        self._policies: dict[tuple[str, str, str], AppConfig] = {}

    def bind(self, reference: AssemblyName, requester: MachinePath) -> Resolution:
        """The assembly that the runtime gives for a reference, and all places that it looks at on the way."""
        wanted, decided = self._redirect_version(reference)
        candidates: list[Candidate] = []
        path: MachinePath | None = None
        is_frameworks = reference.token in FRAMEWORK_TOKENS
        for candidate in self._places(reference, wanted, is_frameworks=is_frameworks):
            candidates.append(candidate)
            if candidate.outcome is CandidateOutcome.TAKEN:
                path = candidate.path
            if candidate.outcome is not CandidateOutcome.ABSENT:
                break
        is_hidden = path is None and is_frameworks and not self._framework.is_there
        return Resolution(
            name=str(reference),
            needed_by=requester,
            how=Necessity.REQUIRED,
            candidates=tuple(candidates),
            path=path,
            kind="assembly",
            provided_by_system=say("loaders.a-part-of-the-framework-which") if is_hidden else UNSAID,
            decided=decided,
            gives_up_with=at_call_of(candidates[-1].outcome) if candidates else UNSAID,
            sought_as=(f"{reference.name}.dll",),
        )

    def follows(self, path: MachinePath) -> bool:
        """Whether what an assembly refers to is looked at: not for what the framework itself brings."""
        found = self._files.try_at(path, UNSAID)
        return isinstance(found, Candidate) or found.name.token not in FRAMEWORK_TOKENS

    def _redirect_version(self, reference: AssemblyName) -> tuple[Version, Message]:
        """The version that is looked for in the end, and what put it in the place of the one that is asked for."""
        wanted, decided = version_of(reference.version), UNSAID
        if not reference.token:  # an assembly that no one signed has no versions to choose from
            return wanted, UNSAID
        own = [a for a in self._config.assemblies if _means(a, reference)]
        follows = self._config.follows_publisher_policy and all(a.follows_publisher_policy for a in own)
        steps = [
            (own, say("loaders.the-program-configuration-file")),
            (self._policy(reference, wanted).assemblies if follows else (), say("loaders.the-publisher-policy")),
            (self._machine_config.assemblies, say("loaders.the-machine-configuration-file")),
        ]
        for assemblies, who in steps:
            for assembly in assemblies:
                for redirect in assembly.redirects if _means(assembly, reference) else ():
                    if redirect.first <= wanted <= redirect.last and redirect.instead != wanted:
                        wanted = redirect.instead
                        instead = say("loaders.asks-for-instead", who=who, wanted=dotted_version(wanted))
                        decided = join_clauses(decided, instead)
                        break
        return wanted, decided

    def _places(self, reference: AssemblyName, wanted: Version, *, is_frameworks: bool) -> Iterator[Candidate]:
        if reference.name.lower() == _CORE:
            yield self._taken_at(
                self._machine.join(self._framework.folder, _CORE + ".dll"), say("loaders.the-framework-own")
            )
            return
        if reference.token:
            yield from self._in_cache(reference, wanted, is_frameworks=is_frameworks)
        based = list(self._code_bases(reference, wanted))
        for path in based or self._probe_places(reference):
            because = say("loaders.the-place-in-the-program-configuration") if based else say("loaders.probing")
            yield self._probe(path, because, reference, wanted)

    def _in_cache(self, reference: AssemblyName, wanted: Version, *, is_frameworks: bool) -> Iterator[Candidate]:
        """Look in the global assembly cache: for the very version; of the framework's own for any that is not older."""
        cached = sorted(self._search_cache(reference), key=lambda found: found.version, reverse=True)
        for found in cached:
            if found.version == wanted or (is_frameworks and found.version >= wanted):
                yield self._taken_at(
                    self._machine.join(found.folder, reference.name + ".dll"), say("loaders.the-global-assembly-cache")
                )
                return
        places = ", ".join(dotted_version(found.version) for found in cached)
        folder = self._machine.join(self._caches()[0], "GAC_MSIL", reference.name)
        detail = say("loaders.holds-version", places=places) if places else UNSAID
        yield Candidate(folder, CandidateOutcome.ABSENT, say("loaders.the-global-assembly-cache"), detail)

    def _search_cache(self, reference: AssemblyName) -> Iterator[_Cached]:
        width = "GAC_32" if self._process in _NARROW else "GAC_64"
        for cache in self._caches():
            for kind in (width, "GAC_MSIL", "GAC"):
                folder = self._machine.join(cache, kind, reference.name)
                for name in self._names(folder):
                    version, _, rest = name.removeprefix("v4.0_").partition("_")
                    if rest.lower() == f"{reference.culture}_{reference.token}".lower():
                        yield _Cached(self._machine.join(folder, name), version_of(version))

    def _caches(self) -> list[MachinePath]:
        """The roots of the cache: that of generation 4 first, which sees the older one too."""
        older = self._machine.join(WINDOWS_FOLDER, "assembly")
        newer = self._machine.join(WINDOWS_FOLDER, "Microsoft.NET", "assembly")
        return [newer, older] if self._framework.generation is Generation.FOUR else [older]

    def _code_bases(self, reference: AssemblyName, wanted: Version) -> Iterator[MachinePath]:
        for assembly in self._config.assemblies:
            for base in assembly.code_bases if _means(assembly, reference) else ():
                if base.version == wanted or not reference.token:
                    url = urlsplit(base.href.replace("\\", "/"))
                    if url.scheme in {"", "file"} or len(url.scheme) == 1:
                        place = base.href if url.scheme != "file" else unquote(url.path).lstrip("/")
                        yield self._machine.join(self._folder, place.replace("/", "\\"))

    def _probe_places(self, reference: AssemblyName) -> Iterator[MachinePath]:
        """Where probing looks, in its order: libraries everywhere first, then programs."""
        for ending in (".dll", ".exe"):
            for private in ("", *self._config.private_paths):
                folder = self._machine.join(self._folder, private)
                if not _is_within(folder, self._folder):  # the runtime never probes outside the program's folder
                    continue
                if reference.culture:
                    folder = self._machine.join(folder, reference.culture)
                yield self._machine.join(folder, reference.name + ending)
                yield self._machine.join(folder, reference.name, reference.name + ending)

    def _probe(self, path: MachinePath, because: Message, reference: AssemblyName, wanted: Version) -> Candidate:
        """The result of a probe of a file: the first of the name is taken or refused, and ends the search."""
        found = self._files.try_at(path, because)
        if isinstance(found, Candidate):
            return found
        wrong, outcome = UNSAID, CandidateOutcome.OTHER_VERSION
        if found.name.name.lower() != reference.name.lower():
            wrong = say("loaders.is-the-assembly", name=found.name.name)
        elif reference.token and found.name.token != reference.token:
            wrong = say("loaders.is-signed-with-another-key", token=found.name.token or "none")
        elif reference.token and version_of(found.name.version) != wanted:
            wrong = say(
                "loaders.is-version-and-exactly-is-asked",
                version=found.name.version,
                wanted=dotted_version(wanted),
            )
            if version_of(found.name.version) < wanted:
                outcome = CandidateOutcome.OLDER_VERSION
        if wrong:
            return Candidate(found.path, outcome, because, wrong, found.pe.architecture)
        return _taken_candidate(found, because)

    def _taken_at(self, path: MachinePath, because: Message) -> Candidate:
        found = self._files.try_at(path, because)
        return found if isinstance(found, Candidate) else _taken_candidate(found, because)

    def _policy(self, reference: AssemblyName, wanted: Version) -> AppConfig:
        """The publisher's policy for a version: an assembly of its own in the cache, the highest version of it."""
        name = f"policy.{wanted[0]}.{wanted[1]}.{reference.name}"
        key = (name, reference.token, reference.culture)
        if key not in self._policies:
            policies = self._search_cache(AssemblyName(name, "", reference.culture, reference.token))
            newest = max(policies, key=lambda found: found.version, default=None)
            files = [n for n in self._names(newest.folder) if not n.lower().endswith(".dll")] if newest else []
            place = self._machine.join(newest.folder, files[0]) if newest and files else None
            self._policies[key] = self._read_config(place) if place is not None else AppConfig()
        return self._policies[key]

    def _read_config(self, place: MachinePath) -> AppConfig:
        if self._machine.look(place).kind is not EntryKind.FILE:
            return AppConfig()
        try:
            return read_app_config(self._machine.content(place, _MOST_BYTES))
        except UnreadableError:
            return AppConfig()

    def _names(self, folder: MachinePath) -> tuple[str, ...]:
        try:
            return self._machine.names(folder)
        except UnreadableError:
            return ()


def _taken_candidate(found: AssemblyFile, because: Message) -> Candidate:
    return Candidate(found.path, CandidateOutcome.TAKEN, because, architecture=found.pe.architecture)


def _means(assembly: DependentAssembly, reference: AssemblyName) -> bool:
    """Whether an entry of a configuration file means an assembly."""
    is_same_name = assembly.name.lower() == reference.name.lower()
    return (
        is_same_name
        and (not assembly.token or assembly.token == reference.token)
        and assembly.culture in {"", reference.culture.lower()}
    )


def _is_within(path: str, folder: str) -> bool:
    return ntpath.normcase(path + "\\").startswith(ntpath.normcase(folder.rstrip("\\") + "\\"))
