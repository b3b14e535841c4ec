"""Find the runtimes of frameworks: their folders, the host's own libraries, the versions that the host picks.

Source: the host's documents "Framework version resolution", "Host components" and "Install location search".
"""

import contextlib
from collections.abc import Iterator

import msgspec

from fundamen.formats.managed.runtime_config import FrameworkReference, RollForward, RuntimeConfig, read_runtime_config
from fundamen.loaders.load_map import Candidate, CandidateOutcome, Resolution
from fundamen.loaders.roll_forward import FrameworkVersion, accepts, framework_version, resolve_framework, specifier_of
from fundamen.loaders.windows_loading import Loading
from fundamen.machine.machine import EntryKind
from fundamen.messages import Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

# What the host ends with. Source: the host's error_codes.h.
NO_HOST = "0x80008083 CoreHostLibMissingFailure"
NO_FRAMEWORK = "0x80008096 FrameworkMissingFailure"
BAD_CONFIGURATION = "0x80008093 InvalidConfigFile"
BAD_LIST = "0x8000808B ResolverInitFailure"
NOT_AS_LISTED = "0x8000808C ResolverResolveFailure"

CORE = "Microsoft.NETCore.App"  # the framework that holds the runtime itself

_INSTALLED = r"dotnet\Setup\InstalledVersions"
# How the host names processors.
WORDS = {Architecture.X86: "x86", Architecture.X86_64: "x64", Architecture.AARCH64: "arm64", Architecture.ARM: "arm"}
_RULES = list(RollForward)  # from the narrowest to the widest
_MOST_BYTES = 1 << 20
_MOST_FRAMEWORKS = 50


class SharedFramework(msgspec.Struct, frozen=True):
    """One framework that was picked."""

    name: str
    version: FrameworkVersion
    folder: MachinePath


class FrameworkHost:
    """The host as one program meets it.

    Attributes:
        frameworks: those that were picked, once ``start`` was called, in the order in which they are asked for.
        is_complete: whether every framework that is asked for was found.
    """

    def __init__(self, loading: Loading) -> None:
        """Begin; nothing is looked for yet."""
        self._loading = loading
        self._machine = loading.machine
        self.frameworks: list[SharedFramework] = []
        self.is_complete = True

    def start(self, config: RuntimeConfig) -> None:
        """Find the host library, the frameworks, and the runtime's own libraries, in the order of their loading."""
        if config.is_self_contained:
            self._need(self._machine.folder_of(self._loading.program), "hostfxr.dll", "hostpolicy.dll", "coreclr.dll")
        else:
            root, because = self._root()
            self._find_host(root, because)
            self._find_frameworks(root, config)
            core = next((framework for framework in self.frameworks if framework.name == CORE), None)
            if core is not None:
                self._need(core.folder, "hostpolicy.dll", "coreclr.dll")
        self._loading.run()

    def _need(self, folder: MachinePath, *libraries: str) -> None:
        for library in libraries:
            self._loading.need(self._machine.join(folder, library), Necessity.REQUIRED, self._loading.program)

    def _root(self) -> tuple[MachinePath, Message]:
        """Where the host looks for itself and all frameworks, and by which rule; there is one such place only."""
        machine, process = self._machine, self._loading.architecture
        word = WORDS.get(process, str(process))
        is_x86 = process is Architecture.X86
        for variable in (f"DOTNET_ROOT_{word.upper()}", *(["DOTNET_ROOT(X86)"] if is_x86 else []), "DOTNET_ROOT"):
            if folder := machine.environment.get(variable, ""):
                return machine.join(folder), say("loaders.the-variable", variable=variable)
        for software in (r"HKLM\Software\WOW6432Node", r"HKLM\Software"):
            if folder := machine.registry.text(f"{software}\\{_INSTALLED}\\{word}", "InstallLocation"):
                return machine.join(folder), say("loaders.the-place-of-installation-in-the")
        return self._default_root(process), say("loaders.the-default-place-of-installation")

    def _default_root(self, process: Architecture) -> MachinePath:
        native = self._loading.processes.native
        if process is Architecture.X86 and native is not Architecture.X86:
            return MachinePath("C:\\Program Files (x86)\\dotnet")
        if process is Architecture.X86_64 and native is Architecture.AARCH64:
            return MachinePath("C:\\Program Files\\dotnet\\x64")
        return MachinePath("C:\\Program Files\\dotnet")

    def _find_host(self, root: MachinePath, because: Message) -> None:
        folder = self._machine.join(root, "host", "fxr")
        versions = self._versions_in(folder)
        if versions:
            self._need(self._machine.join(folder, str(max(versions))), "hostfxr.dll")
            return
        absent = Candidate(self._machine.join(folder, "hostfxr.dll"), CandidateOutcome.ABSENT, because)
        self._loading.answer(
            Resolution(
                "hostfxr.dll",
                self._loading.program,
                Necessity.REQUIRED,
                (absent,),
                None,
                gives_up_with=say("common.status", status=NO_HOST),
            )
        )

    def _find_frameworks(self, root: MachinePath, config: RuntimeConfig) -> None:
        """Pick the frameworks that the program asks for, and those that they ask for in turn."""
        waiting = [(reference, self._loading.program) for reference in config.frameworks]
        asked: dict[str, FrameworkReference] = {}
        picked: dict[str, tuple[SharedFramework | None, Resolution]] = {}
        while waiting and len(asked) < _MOST_FRAMEWORKS:
            reference, requester = waiting.pop(0)
            combined = _combine_references(asked[reference.name], reference) if reference.name in asked else reference
            if combined == asked.get(reference.name):
                continue
            asked[reference.name] = combined
            picked[reference.name] = self._pick(root, combined, requester)
            framework, _ = picked[reference.name]
            if framework is not None:
                waiting += [(further, framework.folder) for further in self._asked_by(framework)]
        for _, resolution in picked.values():
            self._loading.answer(resolution)
        self.frameworks = [framework for framework, _ in picked.values() if framework is not None]
        self.is_complete = len(self.frameworks) == len(picked)

    def _asked_by(self, framework: SharedFramework) -> tuple[FrameworkReference, ...]:
        place = self._machine.join(framework.folder, f"{framework.name}.runtimeconfig.json")
        if self._machine.look(place).kind is not EntryKind.FILE:
            return ()
        try:
            return read_runtime_config(self._machine.content(place, _MOST_BYTES)).frameworks
        except UnreadableError as error:
            self._loading.answer_unread(place, say("loaders.the-framework-own"), error.why, BAD_CONFIGURATION)
            return ()

    def _pick(
        self, root: MachinePath, reference: FrameworkReference, requester: MachinePath
    ) -> tuple[SharedFramework | None, Resolution]:
        folder = self._machine.join(root, "shared", reference.name)
        installed = sorted(self._versions_in(folder))
        picked = resolve_framework(reference, installed)
        rule = say("loaders.the-rule", roll_forward=reference.roll_forward)
        candidates = [
            Candidate(
                self._machine.join(folder, str(v)), _outcome(reference, v, picked), rule, say("loaders.is-version", v=v)
            )
            for v in installed
        ] or [
            Candidate(
                self._machine.join(folder, reference.version),
                CandidateOutcome.ABSENT,
                say("loaders.the-shared-frameworks"),
            )
        ]
        if picked is None:
            candidates += self._elsewhere(root, reference)
        place = self._machine.join(folder, str(picked)) if picked is not None else None
        resolution = Resolution(
            name=f"{reference.name} {reference.version}",
            needed_by=requester,
            how=Necessity.REQUIRED,
            candidates=tuple(candidates),
            path=place,
            kind="framework",
            decided=_describe_decision(reference, installed, picked),
            gives_up_with=say("common.status", status=NO_FRAMEWORK),
            sought_as=(f"{reference.name}.deps.json",),
            sought_versions=specifier_of(reference),
        )
        found = SharedFramework(reference.name, picked, place) if picked is not None and place is not None else None
        return found, resolution

    def _elsewhere(self, root: MachinePath, reference: FrameworkReference) -> Iterator[Candidate]:
        """Acceptable versions where the host does not look: people install one width and forget the other."""
        for other in dict.fromkeys(map(self._default_root, WORDS)):
            folder = self._machine.join(other, "shared", reference.name)
            for version in self._versions_in(folder) if other != root else ():
                if accepts(reference, version):
                    place, because = (
                        self._machine.join(folder, str(version)),
                        say("loaders.another-place-of-installation"),
                    )
                    width = self._width_at(other)
                    if width in {None, self._loading.architecture}:
                        yield Candidate(
                            place, CandidateOutcome.NOT_SEARCHED, because, say("loaders.lies-where-the-host-does-not")
                        )
                    else:
                        yield Candidate(
                            place,
                            CandidateOutcome.OTHER_ARCHITECTURE,
                            because,
                            say("loaders.is-for", architecture=width),
                            width,
                        )

    def _width_at(self, root: MachinePath) -> Architecture | None:
        """The architecture of the host library at a place of installation; None where there is none."""
        folder = self._machine.join(root, "host", "fxr")
        for version in self._versions_in(folder):
            with contextlib.suppress(UnreadableError):
                return self._machine.binary(self._machine.join(folder, str(version), "hostfxr.dll")).architecture
        return None

    def _versions_in(self, folder: MachinePath) -> list[FrameworkVersion]:
        try:
            names = self._machine.names(folder)
        except UnreadableError:
            return []
        return [version for name in names if (version := framework_version(name)) is not None]


def _outcome(
    reference: FrameworkReference, version: FrameworkVersion, picked: FrameworkVersion | None
) -> CandidateOutcome:
    if version == picked:
        return CandidateOutcome.TAKEN
    wanted = framework_version(reference.version)
    return CandidateOutcome.OLDER_VERSION if wanted is not None and version < wanted else CandidateOutcome.OTHER_VERSION


def _describe_decision(
    reference: FrameworkReference, installed: list[FrameworkVersion], picked: FrameworkVersion | None
) -> Message:
    if not installed:
        return say("loaders.version-is-asked-for-and-none", version=reference.version)
    verb = say("loaders.takes", picked=picked) if picked is not None else say("loaders.accepts-none-of-them")
    has = ", ".join(map(str, installed))
    return say(
        "loaders.version-is-asked-for-installed-the",
        version=reference.version,
        has=has,
        roll_forward=reference.roll_forward,
        verb=verb,
    )


def _combine_references(one: FrameworkReference, other: FrameworkReference) -> FrameworkReference:
    """Two references to one framework as one: the higher version, under the narrower rule."""
    rule = min((one.roll_forward, other.roll_forward), key=_RULES.index)
    first, second = framework_version(one.version), framework_version(other.version)
    is_higher = first is not None and second is not None and first < second
    return FrameworkReference(one.name, other.version if is_higher else one.version, rule)
