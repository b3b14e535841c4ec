"""How macOS's loader, dyld, finds the libraries of a Mach-O program.

Source: dyld(1), and Apple's dyld sources where the manual is silent (Loader::forEachPath, Loader::loadDependents,
PathOverrides::forEachPathVariant). A candidate that cannot be used is passed over, whatever is wrong with it.
"""

import posixpath
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.formats.mac.macho import MachO
from fundamen.formats.mac.macho_signature import CodeSignature, read_signature
from fundamen.formats.mac.macho_slice import MACOS, FileType, Slice
from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap, Resolution, find_candidate
from fundamen.loaders.mac_binding import find_unoffered
from fundamen.loaders.mac_system import MacSystem, find_system
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.errors import DamagedFileError
from fundamen.model.paths import MachinePath

_MOST_IMAGES = 10_000
_CATALYST, _DRIVER_KIT = 6, 10  # LC_BUILD_VERSION's platforms, besides macOS's own
_PLATFORMS = {2: "iOS", 3: "tvOS", 4: "watchOS", 7: "the iOS simulator", 11: "visionOS"}
_DEFAULT_FALLBACK = {
    "library": "/usr/local/lib:/usr/lib",
    "framework": "/Library/Frameworks:/System/Library/Frameworks",
}
_WITHOUT_FALLBACK = (13,)  # what is built with the SDK of this macOS or a later one has no default fallback
_SIGNED = {Architecture.AARCH64, Architecture.ARM64E}  # code for these must carry a signature


class _Image(msgspec.Struct, frozen=True):
    """One file that is loaded, with what its own needs inherit."""

    path: MachinePath
    part: Slice
    folder: str  # what @loader_path stands for
    loaded_by: "_Image | None"


def load_map(machine: Machine, program: MachinePath, macho: MachO, also: Sequence[str] = ()) -> LoadMap:
    """Do for a program what the loader would do, without running anything."""
    system = find_system(machine)
    architecture = next((a for a in system.runs() if macho.slice_for(a)), macho.architecture)
    part = macho.slice_for(architecture)
    if part is None:  # no slice could be read; its damage is reported
        return LoadMap(program, macho, architecture, {}, ())
    return _Loading(machine, system, program, macho, part).run(also)


class _Loading:
    """One program's loading, up to the point where its own code would start."""

    def __init__(self, machine: Machine, system: MacSystem, program: MachinePath, macho: MachO, part: Slice) -> None:
        self._machine = machine
        self._system = system
        self._macho = macho
        self._architecture = part.architecture
        self._program = _Image(program, part, machine.folder_of(machine.real(program)), None)
        self._signature, self._distrust = self._signature_of(program, part)
        self._environment = machine.environment if self._heeds_environment() else {}
        self._loaded: dict[MachinePath, MachO] = {}
        self._images: dict[MachinePath, _Image] = {}  # real path -> what is loaded from it
        self._by_name: dict[str, MachinePath] = {}  # install names
        self._answers: dict[tuple[MachinePath, str], MachinePath | None] = {}  # (image, need) -> what it is given

    def run(self, also: Sequence[str]) -> LoadMap:
        """Load all; ``also`` is what the program asks for as it runs."""
        resolutions = [
            *self._load_names(self._list_of_variable("DYLD_INSERT_LIBRARIES"), Necessity.REQUIRED),
            *self._load_needs_of(self._program),
            *self._load_names(list(also), Necessity.DELAYED),
        ]
        runs = self._system.runs()
        parts = {self._program.path: self._program.part, **{i.path: i.part for i in self._images.values()}}
        return LoadMap(
            program=self._program.path,
            binary=msgspec.structs.replace(self._macho, architecture=self._architecture, also_for=()),
            architecture=self._architecture,
            loaded=dict(self._loaded),
            resolutions=tuple(resolutions),
            unoffered=tuple(find_unoffered(self._machine, parts, self._answers)),
            runs_here=UNSAID if self._architecture in runs else self._in_words(runs),
            untrusted=self._distrust,
            remarks=tuple(self._remarks()),
        )

    def _remarks(self) -> Iterator[Message]:
        part, version = self._program.part, self._system.version
        minimum = part.minimum_os
        if part.platform == MACOS and minimum and version and _numbers(minimum) > version:
            here = ".".join(map(str, version))
            yield say("loaders.it-is-made-for-macos-or", minimum=minimum, here=here)

    def _in_words(self, runs: tuple[Architecture, ...]) -> Message:
        if Architecture.AARCH64 in runs and self._architecture is Architecture.X86_64:
            return say(
                "loaders.only-the-translator-for-rosetta-is",
                translated=Architecture.AARCH64,
                architecture=self._architecture,
            )
        return as_said(" and ".join(runs))

    def _load_names(self, names: list[str], how: Necessity) -> Iterator[Resolution]:
        for name in names:
            before = len(self._images)
            resolution = self._resolve(name, self._program, how)
            yield resolution
            if resolution.path is not None and len(self._images) > before:
                yield from self._load_needs_of(self._images[self._machine.real(resolution.path)])

    def _load_needs_of(self, first: _Image) -> Iterator[Resolution]:
        """All direct needs of an image, and then those of each image that was new among them, in order."""
        waiting = [first]
        while waiting and len(self._images) < _MOST_IMAGES:
            image = waiting.pop()
            before = set(self._images)
            for dylib in image.part.dylibs:
                resolution = self._resolve(dylib.name, image, dylib.how, dylib.compatibility)
                self._answers[image.path, dylib.name] = resolution.path
                yield resolution
            waiting += [new for key, new in reversed(self._images.items()) if key not in before]

    def _resolve(self, name: str, requester: _Image, how: Necessity, compatibility: str = "0.0.0") -> Resolution:
        if (known := self._by_name.get(name)) is not None:
            return Resolution(name, requester.path, how, (), known)
        candidates: list[Candidate] = []
        for path, because in self._places(name, requester):
            candidate = self._try(path, because, compatibility)
            if candidate.outcome is CandidateOutcome.TAKEN:
                return Resolution(name, requester.path, how, (*candidates, candidate), self._load(path, requester))
            if provided := self._provided_by_system(path):
                return Resolution(name, requester.path, how, tuple(candidates), None, provided_by_system=provided)
            candidates.append(candidate)
        return Resolution(name, requester.path, how, tuple(candidates), None)

    def _provided_by_system(self, path: MachinePath) -> Message:
        found = self._system.says_of(path, self._architecture)
        return found or self._system.says_of(self._machine.real(path), self._architecture)

    def _load(self, path: MachinePath, requester: _Image) -> MachinePath:
        """Count a file as loaded, unless it is there under another name; give the path it is loaded under."""
        real = self._machine.real(path)
        if real in self._images:
            return self._images[real].path
        macho = self._machine.binary(path)
        assert isinstance(macho, MachO)  # noqa: S101 - _try took it as one
        part = macho.slice_for(self._architecture)
        assert part is not None  # noqa: S101 - likewise
        self._images[real] = _Image(path, part, self._machine.folder_of(real), requester)
        self._loaded[path] = msgspec.structs.replace(macho, architecture=self._architecture, also_for=())
        if part.install_name:
            self._by_name.setdefault(part.install_name, path)
        return path

    # Where a name leads. Source: Loader::forEachPath and PathOverrides::forEachPathVariant.

    def _places(self, name: str, requester: _Image) -> Iterator[tuple[MachinePath, Message]]:
        kind, tail = _tail_of(name)
        yield from self._in_folders(f"DYLD_{kind.upper()}_PATH", tail)
        if name.startswith("@rpath/"):
            yield from self._by_run_paths(name.removeprefix("@rpath/"), requester)
        elif (expanded := self._expand_tokens(name, requester)).startswith("/"):
            because = say("loaders.the-need-is-a-path") if name == expanded else as_said(name.partition("/")[0])
            yield self._tidy(expanded), because
        variable = f"DYLD_FALLBACK_{kind.upper()}_PATH"
        if variable in self._environment:
            yield from self._in_folders(variable, tail)
        elif self._has_default_fallback(requester.part):
            for folder in _DEFAULT_FALLBACK[kind].split(":"):
                yield self._machine.join(folder, tail), say("loaders.default-fallback")

    def _by_run_paths(self, tail: str, requester: _Image) -> Iterator[tuple[MachinePath, Message]]:
        """The run paths of the requester, then those of whatever loaded it, up to the program."""
        holder: _Image | None = requester
        while holder is not None:
            for run_path in holder.part.run_paths:
                folder = self._expand_tokens(run_path, holder)
                if folder.startswith("/"):
                    yield (
                        self._tidy(f"{folder}/{tail}"),
                        say("loaders.lc-rpath-of", file=posixpath.basename(holder.path)),
                    )
            holder = holder.loaded_by

    def _expand_tokens(self, path: str, holder: _Image) -> str:
        for token, folder in (("@loader_path", holder.folder), ("@executable_path", self._program.folder)):
            if path == token or path.startswith(token + "/"):
                return folder + path[len(token) :]
        return path

    def _in_folders(self, variable: str, tail: str) -> Iterator[tuple[MachinePath, Message]]:
        for folder in self._list_of_variable(variable):
            if folder.startswith("/"):
                yield self._machine.join(folder, tail), say("loaders.the-variable", variable=variable)

    def _list_of_variable(self, variable: str) -> list[str]:
        return [each for each in self._environment.get(variable, "").split(":") if each]

    def _tidy(self, path: str) -> MachinePath:
        """Take ``..`` out where no link stands before it."""
        tidy, real = self._machine.join(path), self._machine.real(MachinePath(path))
        return tidy if self._machine.real(tidy) == real else real

    def _has_default_fallback(self, part: Slice) -> bool:
        return part.sdk is None or tuple(map(int, part.sdk.split("."))) < _WITHOUT_FALLBACK

    def _heeds_environment(self) -> bool:
        """Whether the variables count: not for programs that run with other rights, or are signed as hardened."""
        changes_account = self._machine.look(self._program.path).changes_account
        is_marked = any(segment.name == "__RESTRICT" for segment in self._program.part.segments)
        return not (changes_account or is_marked) and (self._signature is None or self._signature.heeds_environment)

    # What is made of one candidate. Source: JustInTimeLoader::makeJustInTimeLoaderDisk, MachOFile::isLoadable.

    def _try(self, path: MachinePath, because: Message, compatibility: str) -> Candidate:
        found = find_candidate(self._machine, path, because)
        if isinstance(found, Candidate):
            return found
        part = found.slice_for(self._architecture) if isinstance(found, MachO) else None
        if part is None:
            architectures = (found.architecture, *found.also_for)
            detail = (
                say("loaders.is-for", architecture=" and ".join(architectures))
                if isinstance(found, MachO)
                else say("loaders.is-no-mach-o-file")
            )
            outcome = CandidateOutcome.OTHER_ARCHITECTURE if isinstance(found, MachO) else CandidateOutcome.REFUSED
            return Candidate(path, outcome, because, detail, found.architecture)
        if found.problems:
            return Candidate(path, CandidateOutcome.REFUSED, because, found.problems[0].sentence)
        for outcome, objection in self._objections(path, part, compatibility):
            return Candidate(path, outcome, because, objection, self._architecture)
        return Candidate(path, CandidateOutcome.TAKEN, because, architecture=self._architecture)

    def _objections(
        self, path: MachinePath, part: Slice, compatibility: str
    ) -> Iterator[tuple[CandidateOutcome, Message]]:
        if part.file_type not in {FileType.DYLIB, FileType.BUNDLE}:
            yield (
                CandidateOutcome.REFUSED,
                say("loaders.is-a-program-not-a-library")
                if part.file_type == FileType.EXECUTE
                else say("loaders.is-no-library"),
            )
        if part.platform not in {0, MACOS, _CATALYST, _DRIVER_KIT}:
            yield (
                CandidateOutcome.REFUSED,
                say(
                    "loaders.is-built-for",
                    kind=_PLATFORMS.get(part.platform, say("loaders.platform", platform=part.platform)),
                ),
            )
        if _numbers(part.compatibility or "0") < _numbers(compatibility):
            offers = part.compatibility or "none"
            yield (
                CandidateOutcome.OLDER_VERSION,
                say("loaders.has-compatibility-version-and-or-later", offers=offers, compatibility=compatibility),
            )
        signature, distrust = self._signature_of(path, part)
        if distrust:
            yield CandidateOutcome.UNTRUSTED, distrust
        ours = self._signature
        if ours is not None and ours.demands_own_team and ours.team and not self._is_of(ours.team, signature):
            theirs = say("loaders.team", team=signature.team) if signature is not None and signature.team else "no team"
            yield (
                CandidateOutcome.UNTRUSTED,
                say("loaders.is-signed-by-and-the-program", theirs=theirs, team=ours.team),
            )

    def _is_of(self, team: str, signature: CodeSignature | None) -> bool:
        return signature is not None and signature.team == team

    def _signature_of(self, path: MachinePath, part: Slice) -> tuple[CodeSignature | None, Message]:
        """A slice's signature, and why the system does not accept it; empty where it does."""
        if part.signature is None:
            is_demanded = part.architecture in _SIGNED
            missing = say("loaders.has-no-code-signature-which-macos", architecture=part.architecture)
            return None, missing if is_demanded else UNSAID
        try:
            with self._machine.open(path) as source:
                signature = read_signature(source, part)
        except DamagedFileError as error:
            return None, say("loaders.has-a-code-signature-that-cannot", why=error.why)
        if signature is not None and signature.covered < part.signature.offset:
            return signature, say(
                "loaders.its-signature-covers-of-bytes", covered=signature.covered, offset=part.signature.offset
            )
        return signature, UNSAID


def _tail_of(name: str) -> tuple[str, str]:
    """Whether a need names a framework, and the part of it that is looked for in other folders.

    Source: dyld's Loader, "getFrameworkPartialPath".
    """
    parts = name.split("/")
    for index in range(len(parts) - 2, -1, -1):
        stem, _, ending = parts[index].rpartition(".")
        if ending == "framework" and parts[-1].partition("_")[0] == stem:
            return "framework", "/".join(parts[index:])
    return "library", parts[-1]


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(map(int, version.split(".")))
