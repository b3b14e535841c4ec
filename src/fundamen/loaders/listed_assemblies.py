"""Which assemblies a program for shared frameworks gets: those that the host lists for it beforehand.

Source: the host's documents "Host probing" and "Runtime configuration files" (NAME.deps.json); for the version that
a reference accepts, "Managed assembly loading algorithm".
"""

import msgspec

from fundamen.formats.managed.cli_header import AssemblyName
from fundamen.formats.managed.runtime_config import Asset, read_assets
from fundamen.formats.windows.manifest import Version, version_of
from fundamen.loaders.assembly_files import AssemblyFiles, at_call_of
from fundamen.loaders.framework_host import BAD_LIST, NOT_AS_LISTED, WORDS, FrameworkHost
from fundamen.loaders.load_map import Candidate, CandidateOutcome, Resolution
from fundamen.loaders.windows_loading import Loading
from fundamen.machine.machine import EntryKind
from fundamen.messages import UNSAID, Message, say
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SYSTEMS = ("win10-{}", "win81-{}", "win8-{}", "win7-{}", "win-{}", "win10", "win81", "win8", "win7", "win", "any", "")
_MOST_BYTES = 16 << 20


class _Listed(msgspec.Struct, frozen=True):
    path: MachinePath
    because: Message
    version: Version = (0, 0, 0, 0)  # that the list gives


class ListedAssemblies:
    """The host's list for one program; references are bound to what stands in it."""

    def __init__(self, loading: Loading, files: AssemblyFiles, host: FrameworkHost) -> None:
        """Begin with an empty list, for a host that was started."""
        self._loading = loading
        self._machine = loading.machine
        self._files = files
        self._host = host
        self._folder = self._machine.folder_of(loading.program)
        self._listed: dict[str, _Listed] = {}  # by simple name in lower case
        self._missing: dict[str, Resolution] = {}  # likewise: what is listed and not there

    def fill(self, assembly: MachinePath) -> None:
        """List the program's own assemblies, then those of the frameworks; what is listed and not there is a fault."""
        machine = self._machine
        own = self._assets(MachinePath(machine.paths.splitext(assembly)[0] + ".deps.json"))
        if own is None:
            for name in self._names():
                if name.lower().endswith((".dll", ".exe")):
                    self._list(
                        _Listed(machine.join(self._folder, name), say("loaders.a-file-beside-the-program-which"))
                    )
        else:
            self._list(_Listed(assembly, say("loaders.the-program-itself")))
            for asset in self._assets_of_process(own):
                place = machine.join(self._folder, *(asset.path.split("/") if asset.rid else [asset.file_name]))
                self._list_asset(
                    asset, place, say("loaders.listed-for-the-package", package=asset.package, version=asset.version)
                )
        for framework in self._host.frameworks:
            because = say("loaders.a-part-of", name=framework.name, version=framework.version)
            for asset in self._assets(machine.join(framework.folder, f"{framework.name}.deps.json"), because) or ():
                self._list_asset(asset, machine.join(framework.folder, asset.file_name), because)

    def bind(self, reference: AssemblyName, requester: MachinePath) -> Resolution:
        """The assembly that the runtime gives for a reference: the listed one, if it is not older than asked for."""
        missing = self._missing.get(reference.name.lower())
        if missing is not None:
            return msgspec.structs.replace(missing, needed_by=requester)
        file_name = f"{reference.name}.dll"
        listed = self._listed.get(reference.name.lower())
        provided = UNSAID
        if listed is None:
            if not self._host.is_complete:
                provided = say("loaders.perhaps-a-part-of-a-framework")
            because = say("loaders.not-among-the-assemblies-that-are")
            candidate = Candidate(self._machine.join(self._folder, file_name), CandidateOutcome.ABSENT, because)
        else:
            candidate = self._try(listed, reference)
        return Resolution(
            name=str(reference),
            needed_by=requester,
            how=Necessity.REQUIRED,
            candidates=(candidate,),
            path=candidate.path if candidate.outcome is CandidateOutcome.TAKEN else None,
            kind="assembly",
            provided_by_system=provided,
            gives_up_with=at_call_of(candidate.outcome),
            sought_as=(file_name,),
        )

    def follows(self, path: MachinePath) -> bool:
        """Whether what an assembly refers to is looked at: not for a framework's own, which come as one."""
        return not any(path.startswith(framework.folder + "\\") for framework in self._host.frameworks)

    def _try(self, listed: _Listed, reference: AssemblyName) -> Candidate:
        found = self._files.try_at(listed.path, listed.because)
        if isinstance(found, Candidate):
            return found
        taken = Candidate(found.path, CandidateOutcome.TAKEN, listed.because, architecture=found.pe.architecture)
        if version_of(found.name.version) < version_of(reference.version):
            detail = say("loaders.is-version", v=found.name.version)
            return msgspec.structs.replace(taken, outcome=CandidateOutcome.OLDER_VERSION, detail=detail)
        return taken

    def _list(self, listed: _Listed) -> None:
        """Put an assembly on the list; one of the same name gives way to a higher version only."""
        name = self._machine.paths.splitext(self._machine.paths.basename(listed.path))[0].lower()
        known = self._listed.get(name)
        if known is None or listed.version > known.version:
            self._listed[name] = listed

    def _list_asset(self, asset: Asset, place: MachinePath, because: Message) -> None:
        if self._machine.look(place).kind is EntryKind.FILE:
            if asset.is_managed:
                self._list(_Listed(place, because, version_of(asset.assembly_version)))
            return
        name = asset.file_name.rpartition(".")[0] if asset.is_managed else asset.file_name
        missing = Resolution(
            name=name,
            needed_by=self._loading.program,
            how=Necessity.REQUIRED,
            candidates=(Candidate(place, CandidateOutcome.ABSENT, because),),
            path=None,
            kind="assembly" if asset.is_managed else "shared-library",
            gives_up_with=say("common.status", status=NOT_AS_LISTED),
            sought_as=(asset.file_name,),
        )
        self._loading.answer(missing)
        if asset.is_managed:
            self._missing[name.lower()] = missing

    def _assets_of_process(self, assets: tuple[Asset, ...]) -> list[Asset]:
        """The assets for this process: of a package's files for several systems only the nearest."""
        word = WORDS.get(self._loading.architecture, "")
        ranks = {system.format(word): rank for rank, system in enumerate(_SYSTEMS)}
        best: dict[tuple[str, str, bool], Asset] = {}
        for asset in assets:
            key = (asset.package, asset.file_name.lower(), asset.is_managed)
            rank = ranks.get(asset.rid)
            if rank is not None and (key not in best or rank < ranks[best[key].rid]):
                best[key] = asset
        return list(best.values())

    def _assets(self, place: MachinePath, of_framework: Message = UNSAID) -> tuple[Asset, ...] | None:
        """The assets of a dependency file; None for a program without one. A damaged one is a fault."""
        is_there = self._machine.look(place).kind is EntryKind.FILE
        if not is_there and not of_framework:
            return None
        try:
            return read_assets(self._machine.content(place, _MOST_BYTES))
        except UnreadableError as error:
            self._loading.answer_unread(
                place, of_framework or say("loaders.what-the-program-lists"), error.why, BAD_LIST
            )
            return ()

    def _names(self) -> tuple[str, ...]:
        try:
            return self._machine.names(self._folder)
        except UnreadableError:
            return ()
