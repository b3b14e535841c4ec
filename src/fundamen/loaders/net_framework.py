r"""Which generation of the .NET Framework a program gets, and whether the release that is installed serves it.

The framework has two generations that stand side by side: 2.0 (with 3.0 and 3.5, which add to it) and 4 (of which each
release replaces the one before). Since Windows 8 the older generation is an optional part of the operating system.

Source: Microsoft's "supportedRuntime element", "Versions and dependencies", "Determine which .NET Framework versions
are installed" (the release numbers), and its guide to offline deployment of 3.5 (the payload's file).
"""

from collections.abc import Iterator
from enum import StrEnum

import msgspec

from fundamen.formats.managed.app_config import AppConfig
from fundamen.formats.managed.cli_header import Managed
from fundamen.loaders.load_map import Candidate, CandidateOutcome, Resolution
from fundamen.loaders.windows_loading import Loading
from fundamen.loaders.windows_parts import build_of
from fundamen.loaders.windows_processes import WINDOWS_FOLDER
from fundamen.machine.machine import EntryKind
from fundamen.machine.registry import Registry
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SETUP = r"HKLM\Software\Microsoft\NET Framework Setup\NDP"
_TARGET = ".NETFramework,Version=v"
_NO_RUNTIME = "0x80131700 CLR_E_SHIM_RUNTIMELOAD, in a box that asks for the framework"
_PAYLOAD = "Microsoft-Windows-NetFx3-OnDemand-Package~31bf3856ad364e35~"
_WORDS = {Architecture.X86: "x86", Architecture.X86_64: "amd64", Architecture.AARCH64: "arm64"}
_FIRST_WITH_OPTIONAL = 9200  # build of Windows 8

# The lowest release number of each release of generation 4.
_RELEASES = {
    "4.5": 378389,
    "4.5.1": 378675,
    "4.5.2": 379893,
    "4.6": 393295,
    "4.6.1": 394254,
    "4.6.2": 394802,
    "4.7": 460798,
    "4.7.1": 461308,
    "4.7.2": 461808,
    "4.8": 528040,
    "4.8.1": 533320,
}


class Generation(StrEnum):
    """A generation, by the folder of its runtime."""

    TWO = "v2.0.50727"
    FOUR = "v4.0.30319"


_RUNTIMES = {Generation.TWO: "mscorwks.dll", Generation.FOUR: "clr.dll"}
FRAMEWORK_TOKENS = {"b77a5c561934e089", "b03f5f7f11d50a3a", "31bf3856ad364e35"}  # public keys of the framework's own


class Framework(msgspec.Struct, frozen=True):
    """The framework that a program gets."""

    generation: Generation
    folder: MachinePath
    is_there: bool


class NetFramework:
    """The .NET Framework of one machine, for one process."""

    def __init__(self, loading: Loading) -> None:
        """Begin; nothing is looked for yet."""
        self._loading = loading
        self._machine = loading.machine

    def folder_of(self, generation: Generation) -> MachinePath:
        """Where a generation's runtime lies, for the width of the process."""
        is_narrow = self._loading.architecture in {Architecture.X86, Architecture.ARM}
        name = "Framework" if is_narrow else "Framework64"
        return self._machine.join(WINDOWS_FOLDER, "Microsoft.NET", name, generation)

    def start(self, managed: Managed, config: AppConfig) -> Framework:
        """Choose the generation, as the program and its configuration file ask; write down how it stands."""
        wanted = _generations_of(managed, config)
        generation = next((g for g, _ in wanted if self._runtime(g).outcome is CandidateOutcome.TAKEN), wanted[0][0])
        sku = next((sku for g, sku in wanted if g is generation and sku.startswith(_TARGET)), "")
        others = [self._runtime(each) for each in Generation if each is not generation]
        candidates = [
            self._runtime(generation),
            *(other for other in others if other.outcome is CandidateOutcome.TAKEN),
        ]
        release = _release_of(managed, sku, generation)
        runtime = self._runtime(generation)
        if runtime.outcome is CandidateOutcome.TAKEN:
            self._loading.need(runtime.path, Necessity.REQUIRED, self._loading.program)
            self._loading.run()
        resolution = Resolution(
            name=f"{_TARGET}{release}",
            needed_by=self._loading.program,
            how=Necessity.REQUIRED if sku or runtime.outcome is not CandidateOutcome.TAKEN else Necessity.DELAYED,
            candidates=tuple(candidates),
            path=runtime.path if runtime.outcome is CandidateOutcome.TAKEN else None,
            kind="framework",
            gives_up_with=say("common.status", status=_NO_RUNTIME),
        )
        self._loading.answer(self._with_release(resolution, generation, release))
        return Framework(generation, self.folder_of(generation), runtime.outcome is CandidateOutcome.TAKEN)

    def _runtime(self, generation: Generation) -> Candidate:
        """How the runtime library of a generation stands."""
        path = self._machine.join(self.folder_of(generation), _RUNTIMES[generation])
        because = say("loaders.the-runtime", generation=generation)
        if self._machine.look(path).kind is EntryKind.FILE:
            return Candidate(path, CandidateOutcome.TAKEN, because)
        if generation is Generation.TWO and self._optional_part():
            return Candidate(path, CandidateOutcome.SWITCHED_OFF, because)
        return Candidate(path, CandidateOutcome.ABSENT, because)

    def _with_release(self, resolution: Resolution, generation: Generation, release: str) -> Resolution:
        """The answer with what the release that is installed comes to, as far as the registry tells it."""
        replace = msgspec.structs.replace
        if resolution.path is None:
            others = [c for c in resolution.candidates if c.outcome is CandidateOutcome.TAKEN]
            is_off = resolution.candidates[0].outcome is CandidateOutcome.SWITCHED_OFF
            decided = (
                self._optional_part() if is_off else say("loaders.the-runtime-is-not-installed", generation=generation)
            )
            if others:
                decided = say("loaders.is-installed-but-the-program-does", decided=decided, because=others[0].because)
            passed_over = [
                replace(c, outcome=CandidateOutcome.OTHER_VERSION, detail=say("loaders.is-another-generation"))
                if c in others
                else c
                for c in resolution.candidates
            ]
            return replace(resolution, decided=decided, candidates=tuple(passed_over))
        installed = installed_release(self._machine.registry, generation)
        if not installed:
            return replace(resolution, decided=say("loaders.is-asked-for-which-release-is", release=release))
        if _numbers(installed) >= _numbers(release):
            return replace(
                resolution, decided=say("loaders.is-asked-for-is-installed-and", release=release, installed=installed)
            )
        decided = say("loaders.is-asked-for-is-installed-which", release=release, installed=installed)
        older = replace(
            resolution.candidates[0],
            outcome=CandidateOutcome.OLDER_VERSION,
            detail=say("loaders.is-release", installed=installed),
        )
        return replace(resolution, path=None, decided=decided, candidates=(older,))

    def _optional_part(self) -> Message:
        """Why the older generation may be switched off here; empty where it is no part of this operating system."""
        word = _WORDS.get(self._loading.processes.native or Architecture.X86_64, "amd64")
        payload = f"{_PAYLOAD}{word}~~"
        folder = self._machine.join(WINDOWS_FOLDER, "servicing", "Packages")
        try:
            is_known = any(name.lower().startswith(payload.lower()) for name in self._machine.names(folder))
        except UnreadableError:
            is_known = False
        build = build_of(self._machine)
        if not is_known and (build is None or build < _FIRST_WITH_OPTIONAL):
            return UNSAID
        of_build = say("loaders.of-build", build=build) if build else UNSAID
        return say("loaders.it-is-an-optional-part-of", payload=payload, of_build=of_build)


def installed_release(registry: Registry, generation: Generation) -> str:
    """Which release of a generation is installed; empty where the registry does not say."""
    if generation is Generation.FOUR:
        number = registry.value(f"{_SETUP}\\v4\\Full", "Release")
        if not isinstance(number, int):
            return "4.0" if registry.value(f"{_SETUP}\\v4\\Full", "Install") == 1 else ""
        return next((name for name, lowest in reversed(_RELEASES.items()) if number >= lowest), "4.0")
    installed = [name for name, key in _keys_of_older() if registry.value(f"{_SETUP}\\{key}", "Install") == 1]
    return installed[0] if installed else ""


def _keys_of_older() -> Iterator[tuple[str, str]]:
    yield "3.5", "v3.5"
    yield "3.0", "v3.0"
    yield "2.0", "v2.0.50727"


def _generations_of(managed: Managed, config: AppConfig) -> list[tuple[Generation, str]]:
    """The generations that serve a program, the one it prefers first, each with the release it asks for, if any."""
    listed = [
        (generation, runtime.sku)
        for runtime in config.supported_runtimes
        for generation in Generation
        if runtime.version[:2] == generation[:2]
    ]
    compiled_for = Generation.FOUR if managed.runtime_version[:2] == Generation.FOUR[:2] else Generation.TWO
    return listed or [(compiled_for, "")]


def _release_of(managed: Managed, sku: str, generation: Generation) -> str:
    """The release that a program asks for: by its configuration file, by itself, or by what it refers to."""
    if generation is Generation.TWO:
        own = [_version(r.version) for r in managed.references if r.token in FRAMEWORK_TOKENS]
        return max((f"{major}.{minor}" for major, minor in own if (major, minor) <= (3, 5)), default="2.0")
    named = sku or managed.target_framework or ""
    release = named.removeprefix(_TARGET).partition(",")[0] if named.startswith(_TARGET) else ""
    return release if release[:1] == "4" else "4.0"


def _version(text: str) -> tuple[int, int]:
    major, minor = _numbers(text)[:2]
    return major, minor


def _numbers(release: str) -> tuple[int, ...]:
    numbers = [int(part) for part in release.split(".") if part.isdecimal() and len(part) < 6]  # noqa: PLR2004 - 65535
    return (*numbers, 0, 0, 0)[:3]
