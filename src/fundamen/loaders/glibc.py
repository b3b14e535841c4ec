"""How the GNU C library's loader finds the shared libraries of a Linux program.

Source: ld.so(8), and glibc's elf/dl-load.c (_dl_map_object, open_verify) where the manual is silent.
"""

import re
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.formats.unix.elf import Elf, Tag
from fundamen.formats.unix.elf_versions import (
    read_defined_versions,
    read_needed_versions,
    read_version_name,
)
from fundamen.formats.unix.ld_cache import CacheEntry, read_ld_cache
from fundamen.loaders.elf_binding import bound_symbols_of, exports_of
from fundamen.loaders.elf_loading import ElfLoading, LoadedObject, words_of
from fundamen.loaders.glibc_itself import system_folders
from fundamen.loaders.hwcaps import ProcessorFolders
from fundamen.loaders.ld_configuration import configured_folders
from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap, Unoffered
from fundamen.loaders.preload_list import PRELOAD, listed_to_preload
from fundamen.machine.machine import Machine
from fundamen.machine.processor import level_in_words, supported_bits
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_CACHE = MachinePath("/etc/ld.so.cache")
_KNOWN_ABIS = {0: 1, 3: 4}  # EI_OSABI of System V and GNU -> the first ABI version that is too new


class _Versions(msgspec.Struct, frozen=True):
    """The symbol versions of one file."""

    needed: dict[str, dict[int, int]]  # library -> hash of a version's name -> place of the name
    defined: frozenset[int] | None  # hashes of their names; None where the file has no versions


def load_map(machine: Machine, program: MachinePath, elf: Elf, also: Sequence[str] = ()) -> LoadMap:
    """Do for a program what the loader would do, without running anything."""
    loading = _Loading(machine, program, elf)
    found = loading.run(also)
    lacking = loading.lacks_for_program()
    return msgspec.structs.replace(found, runs_here=lacking) if lacking else found


class _Loading(ElfLoading):
    def __init__(self, machine: Machine, program: MachinePath, elf: Elf) -> None:
        super().__init__(machine, program, elf)
        self._cache = machine.fact(_CACHE, _read_cache)
        self._system: tuple[str, ...] | None = None
        self._for_processor: ProcessorFolders | None = None
        self._folders_of: dict[tuple[str, MachinePath], list[str]] = {}  # of search paths, by who holds them
        self._with_subfolders: dict[str, tuple[str, ...]] = {}  # of a folder, in the loader's order, each with its "/"
        # The kernel starts such a program in secure mode, unless its very owner starts it. Source: ld.so(8), AT_SECURE.
        self._is_secure = machine.look(program).changes_account

    def lacks_for_program(self) -> Message:
        """The processor of the machine, where the program itself demands a better one."""
        reason = self._beyond_processor(self._elf)
        levels = self._processor_folders().levels()
        return (
            say("loaders.no-more-than-the-program", more=levels[0] if levels else "x86-64", reason=reason)
            if reason
            else UNSAID
        )

    def _preloaded_names(self) -> list[str]:
        in_file = self._machine.fact(PRELOAD, listed_to_preload)
        in_variable = words_of(self._machine.environment.get("LD_PRELOAD", ""))
        if self._is_secure:
            in_variable = [name for name in in_variable if self._is_trusted_to_preload(name)]
        return in_variable + in_file

    def _is_trusted_to_preload(self, name: str) -> bool:
        """Whether secure mode heeds a name: that of a library in a default folder which itself changes the account."""
        paths = [MachinePath(f"{folder}/{name}") for folder in self._system_folders()]
        return "/" not in name and any(self._machine.look(path).changes_account for path in paths)

    def _find_unoffered(self) -> Iterator[Unoffered]:
        """Which symbol versions are needed of a loaded library that it does not define.

        A library without any versions serves every need of them, and a weak need is none; but such a one is no build of
        the system's, so the symbols that no one defines are looked for too. Source: elf/dl-version.c.
        """
        objects = ((self._program.path, self._elf), *self._loaded.items())
        versions = {path: self._machine.fact(path, _versions) for path, _ in objects}
        for path, elf in objects:
            for name, needed in versions[path].needed.items():
                library = self._by_name.get(name)
                if library is None:
                    continue
                defined = versions[library].defined
                if defined is None and needed:
                    yield from self._find_lacking(path, name, library, needed)
                if defined is None or needed.keys() <= defined:
                    continue
                with self._machine.open(path) as source:
                    lacking = [place for hashed, place in needed.items() if hashed not in defined]
                    names = tuple(read_version_name(source, elf, place) for place in lacking)
                right = self._other_copy(name, library, needed)
                yield Unoffered(path, library, Necessity.REQUIRED, names, are_versions=True, right_at=right)

    def _find_lacking(
        self, importer: MachinePath, name: str, library: MachinePath, needed: dict[int, int]
    ) -> Iterator[Unoffered]:
        """Which symbols an importer calls that no loaded file defines, where a library tells none of its versions."""
        machine = self._machine
        defined = set[str]().union(*(machine.fact(each, exports_of) for each in (self._program.path, *self._loaded)))
        bound = machine.fact(importer, bound_symbols_of)
        at_start = bound.at_start - defined
        if lacking := tuple(sorted((bound.at_start | bound.at_first_call) - defined)):
            right = self._other_copy(name, library, needed)
            how = Necessity.REQUIRED if at_start or right is not None else Necessity.DELAYED
            yield Unoffered(importer, library, how, lacking, right_at=right)

    def _other_copy(self, name: str, library: MachinePath, needed: dict[int, int]) -> MachinePath | None:
        """A library of the name that defines all that is needed, and that the search would come to only later."""
        requester = self._objects[library].loaded_by or self._program
        for path, because in self._places(name, requester):
            is_other = self._machine.real(path) != self._machine.real(library)
            if is_other and self._try(path, because).outcome is CandidateOutcome.TAKEN:
                defined = self._machine.fact(path, _versions).defined
                if defined is not None and needed.keys() <= defined:
                    return path
        return None

    # The order of the search. Source: ld.so(8), "DESCRIPTION".

    def _places(self, name: str, requester: LoadedObject) -> Iterator[tuple[MachinePath, Message]]:
        if "/" in name:
            yield self._machine.join("/", self._expand_tokens(name, requester)), say("loaders.the-name-is-a-path")
            return
        if requester.elf.runpath is None:
            yield from self._rpath_places(name, requester)
        yield from self._in_folders(name, self._library_path(requester), say("loaders.library-path-variable"))
        if requester.elf.runpath is not None:
            folders = self._split(requester.elf.runpath, requester)
            yield from self._in_folders(name, folders, say("loaders.runpath-of", base=_base(requester.path)))
        yield from self._search_cache(name, requester)
        if not requester.elf.no_default_folders:
            yield from self._in_folders(name, self._system_folders(), say("loaders.default-folder"))

    def _rpath_places(self, name: str, requester: LoadedObject) -> Iterator[tuple[MachinePath, Message]]:
        """The requester's RPATH, then those of whatever loaded it, up to the program."""
        holder: LoadedObject | None = requester
        while holder is not None:
            if holder.elf.rpath is not None and holder.elf.runpath is None:
                folders = self._split(holder.elf.rpath, holder)
                yield from self._in_folders(name, folders, say("loaders.rpath-of", base=_base(holder.path)))
            holder = holder.loaded_by

    def _library_path(self, requester: LoadedObject) -> list[str]:
        value = "" if self._is_secure else self._machine.environment.get("LD_LIBRARY_PATH", "")
        return self._split(value.replace(";", ":"), requester) if value else []

    def _search_cache(self, name: str, requester: LoadedObject) -> Iterator[tuple[MachinePath, Message]]:
        entries = self._cache.get(name, ())
        if requester.elf.no_default_folders:
            skipped = self._system_folders()
            entries = tuple(e for e in entries if not e.path.startswith(tuple(f + "/" for f in skipped)))
        if len(entries) == 1 and not entries[0].is_in_hwcaps_folder:  # as nearly always
            yield MachinePath(entries[0].path), say("loaders.loader-cache")
            return
        plain = [entry for entry in entries if not entry.is_in_hwcaps_folder]
        for level in self._processor_folders().levels() if len(plain) < len(entries) else ():
            plain[:0] = [e for e in entries if e.is_in_hwcaps_folder and f"/glibc-hwcaps/{level}/" in e.path]
        for entry in plain:
            yield MachinePath(entry.path), say("loaders.loader-cache")

    def _in_folders(
        self, name: str, folders: list[str] | tuple[str, ...], because: Message
    ) -> Iterator[tuple[MachinePath, Message]]:
        known = self._with_subfolders
        for folder in folders:
            if folder not in known:
                known[folder] = tuple([f"{each}/" for each in (*self._processor_folders().of(folder), folder)])
            for begin in known[folder]:
                yield MachinePath(begin + name), because

    def _processor_folders(self) -> ProcessorFolders:
        if self._for_processor is None:
            self._for_processor = ProcessorFolders(self._machine, self._elf.architecture, self._interpreter)
        return self._for_processor

    def _split(self, value: str, holder: LoadedObject) -> list[str]:
        """The folders of a search path; relative ones depend on where the program is started, and are left out."""
        known = self._folders_of.get((value, holder.path))
        if known is None:
            known = self._folders_of[value, holder.path] = self._read_folders(value, holder)
        return known

    def _read_folders(self, value: str, holder: LoadedObject) -> list[str]:
        given = [folder for folder in value.split(":") if not self._is_secure or self._is_trusted(folder, holder)]
        folders = (self._expand_tokens(folder, holder) for folder in given)
        return [self._tidy(folder) for folder in folders if folder.startswith("/")]

    def _is_trusted(self, folder: str, holder: LoadedObject) -> bool:
        """Whether secure mode heeds a folder: $ORIGIN only at its beginning, and where it leads to a default one."""
        if "ORIGIN" not in folder or "$" not in folder:
            return True
        leads_to = self._machine.join(self._expand_tokens(folder, holder)) + "/"
        is_trusted = any(leads_to.startswith(trusted + "/") for trusted in self._system_folders())
        return folder.startswith(("$ORIGIN", "${ORIGIN}")) and is_trusted

    def _expand_tokens(self, text: str, holder: LoadedObject) -> str:
        """Put in what the dynamic string tokens stand for. Source: ld.so(8), "Dynamic string tokens"."""
        if "$" not in text:
            return text
        library = self._system_folders()[0].removeprefix("/usr").lstrip("/")
        platform = "i686" if self._elf.architecture is Architecture.X86 else str(self._elf.architecture)
        values = {"ORIGIN": holder.origin, "LIB": library, "PLATFORM": platform}
        return re.sub(
            r"\$(?:\{(ORIGIN|LIB|PLATFORM)\}|(ORIGIN|LIB|PLATFORM)(?![A-Za-z0-9_]))",
            lambda token: values[token[1] or token[2]],
            text,
        )

    def _system_folders(self) -> tuple[str, ...]:
        if self._system is None:
            self._system = system_folders(self._machine, self._interpreter, self._elf.architecture)
        return self._system

    # What is made of one candidate. Source: elf/dl-load.c, open_verify.

    def _judge_candidate(self, path: MachinePath, because: Message, elf: Elf) -> Candidate:
        if elf.machine == 0:
            reason = elf.problems[0].reason if elf.problems else say("loaders.names-no-architecture")
            return Candidate(
                path, CandidateOutcome.REFUSED, because, say("loaders.its-header-is-damaged", reason=reason)
            )
        if reason := _foreign(elf):
            return Candidate(path, CandidateOutcome.REFUSED, because, reason, elf.architecture)
        if not self._is_of_our_kind(elf):
            detail = say("loaders.is-for", architecture=elf.architecture)
            return Candidate(path, CandidateOutcome.OTHER_ARCHITECTURE, because, detail, elf.architecture)
        if reason := self._beyond_processor(elf):
            return Candidate(path, CandidateOutcome.REFUSED, because, reason, elf.architecture)
        return self._map_file(path, because, elf)

    def _beyond_processor(self, elf: Elf) -> Message:
        """Processor features that a file demands and this processor lacks; empty for none, or where it is unknown."""
        known = supported_bits(self._machine) if elf.needed_levels and elf.architecture is Architecture.X86_64 else 0
        if not known or elf.needed_levels & ~known == 0:
            return UNSAID
        return say("loaders.demands-instructions-of-which-this-processor", level=level_in_words(elf.needed_levels))

    def _not_searched(self, name: str, tried: set[MachinePath]) -> Iterator[Candidate]:
        """Copies in folders that ld.so.conf names: the loader asks only the cache, which ldconfig has yet to renew."""
        for folder in configured_folders(self._machine):
            path = MachinePath(f"{folder}/{name}")
            is_new = self._machine.real(path) not in tried
            if is_new and self._try(path, UNSAID).outcome is CandidateOutcome.TAKEN:
                detail = say("loaders.is-not-listed-in-ld-so")
                yield Candidate(
                    path, CandidateOutcome.NOT_SEARCHED, say("loaders.is-named-in-ld-so-conf", folder=folder), detail
                )


def _read_cache(machine: Machine, path: MachinePath) -> dict[str, tuple[CacheEntry, ...]]:
    try:
        with machine.open(path) as source:
            return read_ld_cache(source)
    except UnreadableError:  # the loader, too, goes on without a cache that it cannot use
        return {}


def _versions(machine: Machine, path: MachinePath) -> _Versions:
    elf = machine.binary(path)
    assert isinstance(elf, Elf)  # noqa: S101 - it was loaded as one
    if not elf.tags().keys() & {Tag.VERNEED, Tag.VERDEF}:
        return _Versions({}, None)
    try:
        with machine.open(path) as source:
            needed: dict[str, dict[int, int]] = {}
            for version in read_needed_versions(source, elf):
                if not version.is_weak:
                    needed.setdefault(version.library, {})[version.hash] = version.name_at
            return _Versions(needed, read_defined_versions(source, elf))
    except UnreadableError:  # a damaged table: then nothing is held against anybody
        return _Versions({}, None)


def _foreign(elf: Elf) -> Message:
    """The part of a file's identification that the loader does not know; empty for none. Source: VALID_ELF_HEADER."""
    if elf.os_abi not in _KNOWN_ABIS:
        return say("loaders.is-for-another-operating-system-ei", os_abi=elf.os_abi)
    if elf.abi_version >= _KNOWN_ABIS[elf.os_abi]:
        return say("loaders.is-of-an-abi-version-that", abi_version=elf.abi_version)
    return say("loaders.its-identification-is-damaged-its-padding") if any(elf.padding) else UNSAID


def _base(path: str) -> str:
    return path.rpartition("/")[2]
