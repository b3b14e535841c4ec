"""Examine one step of a build: which libraries, start files, inputs and headers its own tools do not find, and why.

A compiler stops at the first header and a linker names only what it met; here every need is looked for in one pass.
"""

import os
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from fundamen.building.command import CompilerCommand
from fundamen.building.compiler import Compiler, CompilerPart, HeaderFolders, LinkPlan
from fundamen.building.library_search import LibraryFile, file_names, find_library, name_of, names_in, read_library
from fundamen.building.near_misses import find_near_misses
from fundamen.building.records import BuildNeed, BuildStep, Sort
from fundamen.building.symbol_search import find_defining
from fundamen.building.whereabouts import Whereabouts
from fundamen.evidence.authority import Authority, Says, Subject, weigh
from fundamen.formats.build_log import BuildMessage
from fundamen.formats.build_log import BuildSaying as LogSays
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict

_CPP_ENDINGS = (".cc", ".cpp", ".cxx", ".c++", ".C", ".hpp", ".hh", ".mm")
_MOST_SYMBOLS = 200
_DEEPEST_SCRIPT = 8
_START_FILES = ("crt", "Scrt", "gcrt", "Mcrt", "rcrt", "grcrt")


def examine_step(
    machine: Machine,
    command: CompilerCommand | None,
    compiler: Compiler,
    folder: MachinePath,
    said: Sequence[BuildMessage],
    authorities: Sequence[Authority] = (),
) -> BuildStep:
    """Find all that one step needs and does not find.

    Args:
        machine: this host, where the build runs.
        command: the step's command line; None where only the messages are known.
        compiler: which is asked where it looks.
        folder: that the step is run in.
        said: what its tools said, as far as a log is available.
        authorities: who may vouch for what is found.

    Raises:
        UnreadableError: the compiler cannot be asked.
    """
    step = _Step(machine, command, compiler, folder, said)
    needs = _ask_authorities(machine, step.needs(), step.plan.architecture, authorities)
    whereabouts = Whereabouts(machine, folder, step.plan)
    return BuildStep(
        command=(command.tool, *command.order) if command else (),
        folder=folder,
        architecture=step.plan.architecture,
        needs=tuple(whereabouts.find_all(needs)),
        target=next((message.name for message in said if message.says is LogSays.TARGET_FAILED), ""),
    )


def _ask_authorities(
    machine: Machine, needs: list[BuildNeed], architecture: Architecture, authorities: Sequence[Authority]
) -> list[BuildNeed]:
    """The needs, with what the authorities say of the files that meet them."""
    subjects = [
        Subject(n.path, machine.paths.basename(n.path), architecture)
        for n in needs
        if n.path and not n.verdict.is_fault
    ]
    said = [each.testify(machine, subjects) for each in authorities]
    unmet = []
    for need in needs:
        counts = None if need.verdict.is_fault else weigh([each[need.path] for each in said if need.path in each])
        if counts is not None and counts.says is not Says.UNKNOWN:
            need = msgspec.structs.replace(need, verdict=counts.says.verdict, reason=counts.sentence)  # noqa: PLW2901
        unmet.append(need)
    return unmet


class _Step:
    def __init__(
        self,
        machine: Machine,
        command: CompilerCommand | None,
        compiler: Compiler,
        folder: MachinePath,
        said: Sequence[BuildMessage],
    ) -> None:
        self._machine = machine
        self._command = command
        self._compiler = compiler
        self._folder = folder
        self._said = said
        self.plan: LinkPlan = compiler.link_plan()

    def needs(self) -> list[BuildNeed]:
        """All needs, those of the compiler before those of the linker."""
        found = [*self._tools(), *self._headers(), *self._inputs()]
        if self._command is None or self._command.links:
            parts = [*self.plan.parts, *self._said_libraries()]
            found += [need for part in dict.fromkeys(parts) for need in self._part(part)]
            found += self._symbols(found)
        first: dict[tuple[str, Sort], BuildNeed] = {}
        for need in found:
            first.setdefault((need.name, need.sort), need)
        return list(first.values())

    def _tools(self) -> Iterator[BuildNeed]:
        for message in self._of(LogSays.NO_TOOL):
            reason = say("building.the-shell-does-not-find-it")
            yield BuildNeed(name=message.name, sort=Sort.TOOL, verdict=Verdict.MISSING, reason=reason)

    # Headers.

    def _headers(self) -> Iterator[BuildNeed]:
        missing: dict[str, str] = {}
        sources = self._command.sources if self._command else ()
        for source in (each for each in sources if self._is_file(self._machine.join(self._folder, each))):
            for name in self._compiler.missing_headers(source):
                missing.setdefault(name, source)
        for message in self._of(LogSays.NO_HEADER):
            missing.setdefault(message.name, message.asked_by)
        if missing:
            is_cpp = any(source.endswith(_CPP_ENDINGS) for source in missing.values())
            folders = self._compiler.header_folders(is_cpp=is_cpp)
            for name, source in missing.items():
                yield self._header(name, source, folders)

    def _header(self, name: str, source: str, folders: HeaderFolders) -> BuildNeed:
        own = self._machine.join(self._folder, os.path.dirname(source))
        places = [self._machine.join(folder, name) for folder in (own, *folders.quoted, *folders.all)]
        path = next((place for place in places if self._is_file(place)), None)
        head, tail = os.path.split(name)
        near = tuple(
            os.path.join(head, other)
            for folder in (own, *folders.quoted, *folders.all)
            for other in find_near_misses(tail, self._names(self._machine.join(folder, head)))
        )
        return BuildNeed(
            name=name,
            sort=Sort.HEADER,
            verdict=Verdict.UNVERIFIED if path else Verdict.MISSING,
            reason=say("building.it-is-there-now-at", path=path)
            if path
            else say("building.not-found-in-the-folders-of", count=len(places)),
            path=path,
            asked_by=source,
            near=tuple(dict.fromkeys(near)),
        )

    # What the command names by paths.

    def _inputs(self) -> Iterator[BuildNeed]:
        named = list(self._command.inputs) if self._command else []
        for message in (*self._of(LogSays.NO_FILE), *self._of(LogSays.NO_RULE)):
            is_start_file = "/" not in message.name and message.name.startswith(_START_FILES)
            if message.name not in named and not is_start_file and not message.name.startswith("-"):
                named.append(message.name)
        for name in named:
            path = self._machine.join(self._folder, name)
            if not self._is_file(path):
                near = find_near_misses(os.path.basename(name), self._names(self._machine.folder_of(path)))
                yield BuildNeed(
                    name=name,
                    sort=Sort.INPUT,
                    verdict=Verdict.MISSING,
                    reason=say("building.the-file-does-not-exist-and"),
                    near=tuple(os.path.join(os.path.dirname(name), other) for other in near),
                )
            elif name.endswith((".o", ".a", ".so", ".lo", ".obj")):
                yield self._judged_input(name, path)

    def _judged_input(self, name: str, path: MachinePath) -> BuildNeed:
        file = read_library(self._machine, path)
        verdict, reason = Verdict.UNVERIFIED, as_said(path)
        if file.problem:
            verdict, reason = Verdict.CORRUPT, file.problem
        elif not self._fits(file):
            verdict, reason = Verdict.WRONG_ARCHITECTURE, say("building.it-is-for", architecture=file.architecture)
        return BuildNeed(name=name, sort=file.sort, verdict=verdict, reason=reason, path=path)

    # Libraries and start files.

    def _said_libraries(self) -> list[CompilerPart]:
        given = set(self._command.order) if self._command else set[str]()
        named = [f"-l{message.name}" for message in self._of(LogSays.NO_LIBRARY)]
        starts = [m.name for m in self._of(LogSays.NO_FILE) if "/" not in m.name and m.name.startswith(_START_FILES)]
        return [CompilerPart(name) for name in (*named, *starts) if name not in given]

    def _part(self, part: CompilerPart, asked_by: str = "", depth: int = 0) -> Iterator[BuildNeed]:
        if not part.name.startswith("-l"):
            yield from self._file(part, asked_by)
            return
        windows = self.plan.is_for_windows
        names = file_names(part.name[2:], only_static=part.only_static, for_windows=windows)
        found = find_library(self._machine, names, self.plan.folders, self.plan.architecture)
        sort = found.file.sort if found.file else Sort.STATIC if part.only_static else Sort.LIBRARY
        verdict, reason = Verdict.UNVERIFIED, as_said(str(found.path))
        others = [c for c in found.candidates if c.outcome is CandidateOutcome.OTHER_ARCHITECTURE]
        if found.file is not None and found.file.problem:
            verdict, reason = Verdict.CORRUPT, say("common.said-of", subject=found.path, said=found.file.problem)
        elif found.path is None and others:
            verdict = Verdict.WRONG_ARCHITECTURE
            reason = say(
                "building.and-the-step-links-for",
                path=others[0].path,
                detail=others[0].detail,
                architecture=self.plan.architecture,
            )
        elif found.path is None:
            verdict, reason = Verdict.MISSING, self._why_missing(part, names)
        near = () if found.path else find_near_misses(part.name[2:], (n for n, _ in self._existing_names()))
        yield BuildNeed(
            name=part.name,
            sort=sort,
            verdict=verdict,
            reason=reason,
            path=found.path,
            asked_by=asked_by,
            searched=found.candidates,
            near=tuple(f"-l{name}" for name in near),
        )
        if found.path is not None and found.file is not None and depth < _DEEPEST_SCRIPT:
            yield from self._script_needs(found.path, found.file, part, depth)

    def _script_needs(
        self, script: MachinePath, file: LibraryFile, part: CompilerPart, depth: int
    ) -> Iterator[BuildNeed]:
        """Libraries that a linker script in a library's place names, as far as they are missing."""
        for meant in file.meant:
            for need in self._part(CompilerPart(meant.name, part.only_static), str(script), depth + 1):
                if need.verdict.is_fault:
                    yield need

    def _file(self, part: CompilerPart, asked_by: str) -> Iterator[BuildNeed]:
        """A start file, or a file that a script names: at its path, or in the folders that are searched."""
        is_path = part.name.startswith("/")
        folders = ["/"] if is_path else [self._folder, *self.plan.folders]
        found = find_library(self._machine, [part.name], folders, self.plan.architecture)
        is_start_file = os.path.basename(part.name).startswith(_START_FILES)
        others = [c for c in found.candidates if c.outcome is CandidateOutcome.OTHER_ARCHITECTURE]
        verdict, reason = Verdict.UNVERIFIED, as_said(str(found.path))
        if found.file is not None and found.file.problem:
            verdict, reason = Verdict.CORRUPT, say("common.said-of", subject=found.path, said=found.file.problem)
        elif found.path is None and others:
            verdict, reason = (
                Verdict.WRONG_ARCHITECTURE,
                say("common.of-a-place", place=others[0].path, said=others[0].detail),
            )
        elif found.path is None:
            verdict, reason = (
                Verdict.MISSING,
                say("building.the-compiler-knows-no-place-that", architecture=self.plan.architecture),
            )
        yield BuildNeed(
            name=self._machine.join(part.name) if is_path else part.name,
            sort=Sort.START_FILE if is_start_file else Sort.LIBRARY,
            verdict=verdict,
            reason=reason,
            path=found.path,
            asked_by=asked_by,
            searched=found.candidates,
        )

    def _why_missing(self, part: CompilerPart, names: Sequence[str]) -> Message:
        """Say whether only the part for running programs is there, which lacks what a linker asks for."""
        stem = f"lib{part.name[2:]}.so."
        for folder in self.plan.folders:
            versioned = [name for name in self._names(MachinePath(folder)) if name.startswith(stem)]
            if versioned and not part.only_static:
                there = self._machine.join(folder, versioned[0])
                return say("building.only-is-there-for-running-programs", there=there, names=" or ".join(names))
        return say("building.was-not-found-in-the-folders", names=" or ".join(names), count=len(self.plan.folders))

    # Symbols.

    def _symbols(self, needs: Iterable[BuildNeed]) -> Iterator[BuildNeed]:
        undefined: dict[str, str] = {}
        for message in self._of(LogSays.NO_SYMBOL)[:_MOST_SYMBOLS]:
            undefined.setdefault(message.name, message.asked_by)
        defining = find_defining(self._machine, list(undefined), self.plan.folders, self.plan.architecture)
        lacking = [need.name for need in needs if need.verdict.is_fault and need.name.startswith("-l")]
        own = self._own_archives()
        for symbol, asked_by in undefined.items():
            yield self._symbol(symbol, asked_by, defining.get(symbol, ()), own, lacking)

    def _symbol(
        self,
        symbol: str,
        asked_by: str,
        defining: tuple[MachinePath, ...],
        own: dict[str, LibraryFile],
        lacking: list[str],
    ) -> BuildNeed:
        order = self._command.order if self._command else ()
        names = [f"-l{name}" for path in defining if (name := self._name(path))]
        on_line = [name for name in names if name in order] + [
            name for name, file in own.items() if file.archive and symbol in (file.archive.symbols or ())
        ]
        do = UNSAID
        if on_line:
            reason = say("building.defines-it-but-comes-before-the", on_line=on_line[0])
            do = say("building.move-to-the-end-of-the", on_line=on_line[0])
        elif names:
            reason = say("building.defines-it-and-is-not-on", names=names[0], defining=defining[0])
            do = say("building.add-at-the-end-of-the", names=names[0])
        elif lacking:
            reason = say("building.no-library-in-the-folders-that", lacking=lacking[0])
        else:
            reason = say("building.no-library-in-the-folders-that-are")
        return BuildNeed(
            name=symbol, sort=Sort.SYMBOL, verdict=Verdict.MISSING, reason=reason, asked_by=asked_by, do=do
        )

    def _own_archives(self) -> dict[str, LibraryFile]:
        """The static libraries that the command names by their paths."""
        names = [name for name in (self._command.inputs if self._command else ()) if name.endswith((".a", ".lib"))]
        paths = {name: self._machine.join(self._folder, name) for name in names}
        return {name: read_library(self._machine, path) for name, path in paths.items() if self._is_file(path)}

    # The machine.

    def _of(self, says: LogSays) -> list[BuildMessage]:
        return [message for message in self._said if message.says is says]

    def _existing_names(self) -> Iterator[tuple[str, MachinePath]]:
        return names_in(self._machine, self.plan.folders)

    def _name(self, path: MachinePath) -> str:
        return name_of(self._machine.paths.basename(path))

    def _fits(self, file: LibraryFile) -> bool:
        wanted = self.plan.architecture
        return file.architecture in {None, wanted} or wanted is Architecture.UNKNOWN

    def _is_file(self, path: MachinePath) -> bool:
        return self._machine.look(path).kind is EntryKind.FILE

    def _names(self, folder: MachinePath) -> tuple[str, ...]:
        try:
            return self._machine.names(folder)
        except UnreadableError:
            return ()
