"""How the Windows image loader finds the DLLs of a program, by its basic rule.

Source: Microsoft's "Dynamic-link library search order", standard search order for unpackaged programs with safe search
mode, which is the default; the redirection of 32-bit programs from "File System Redirector". A candidate of another
architecture is passed over and the search goes on.
"""

from collections import deque
from collections.abc import Iterator

from fundamen.formats.pe import Pe
from fundamen.loaders.load_map import Candidate, LoadMap, Outcome, Resolution, Unoffered, read_candidate
from fundamen.loaders.windows_binding import Binding
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture
from fundamen.model.binary import How
from fundamen.model.paths import MachinePath

WINDOWS_FOLDER = MachinePath("C:\\Windows")

_MOST_OBJECTS = 10_000
_API_SET_PREFIXES = ("api-ms-win-", "ext-ms-win-")
_NARROW = {Architecture.X86, Architecture.ARM}  # 32-bit programs, which a 64-bit system redirects


def load_map(machine: Machine, program: MachinePath, pe: Pe) -> LoadMap:
    """Do for a program what the image loader would do, without running anything."""
    return _Loading(machine, program, pe).run()


def system_folder(machine: Machine, architecture: Architecture) -> MachinePath:
    """The system folder that programs of an architecture see.

    On a 64-bit system System32 holds the 64-bit libraries and SysWOW64 the 32-bit ones; on a 32-bit system there is
    only System32.
    """
    redirected = machine.join(WINDOWS_FOLDER, "SysWOW64")
    if architecture in _NARROW and machine.look(redirected).kind is EntryKind.FOLDER:
        return redirected
    return machine.join(WINDOWS_FOLDER, "System32")


class _Loading:
    def __init__(self, machine: Machine, program: MachinePath, pe: Pe) -> None:
        self._machine = machine
        self._program = program
        self._pe = pe
        self._loaded: dict[MachinePath, Pe] = {}
        self._by_name: dict[str, MachinePath] = {}
        self._queue: deque[tuple[MachinePath, Pe]] = deque([(program, pe)])
        self._folders = tuple(self._search_folders())
        self._resolutions: list[Resolution] = []
        self._binding = Binding(machine, self._need)

    def run(self) -> LoadMap:
        unoffered: list[Unoffered] = []
        while self._queue and len(self._loaded) < _MOST_OBJECTS:
            path, pe = self._queue.popleft()
            found = {(need.name, need.how): self._need(need.name, need.how, path) for need in pe.needs}
            for library in pe.imports:
                target = found[library.name, library.how]
                if target is not None and (gap := self._binding.bind(path, pe, library, target)):
                    unoffered.append(gap)
        return LoadMap(self._program, self._pe, dict(self._loaded), tuple(self._resolutions), tuple(unoffered))

    def _need(self, name: str, how: How, requester: MachinePath) -> MachinePath | None:
        """Resolve a need, write the answer down, and give the path that is loaded."""
        resolution = self._resolve(name, how, requester)
        self._resolutions.append(resolution)
        return resolution.path

    def _search_folders(self) -> Iterator[tuple[MachinePath, str]]:
        system = system_folder(self._machine, self._pe.architecture)
        yield self._machine.folder_of(self._program), "the program's folder"
        yield system, "the system folder for this width"
        yield self._machine.join(WINDOWS_FOLDER, "System"), "the 16-bit system folder"
        yield WINDOWS_FOLDER, "the Windows folder"
        for folder in self._machine.environment.get("PATH", "").split(";"):
            if folder.strip():
                yield self._redirected(self._machine.join(folder.strip().strip('"')), system), "PATH"

    def _redirected(self, folder: MachinePath, system: MachinePath) -> MachinePath:
        is_system32 = self._machine.folded(folder) == self._machine.folded(WINDOWS_FOLDER + "\\System32")
        return system if is_system32 else folder

    def _resolve(self, name: str, how: How, requester: MachinePath) -> Resolution:
        known = self._by_name.get(name.lower())
        if known is not None:
            return Resolution(name, requester, how, (), known)
        candidates: list[Candidate] = []
        taken: MachinePath | None = None
        for path, because in self._places(name):
            candidate = self._try(path, because)
            candidates.append(candidate)
            if candidate.outcome is Outcome.TAKEN:
                taken = self._load(name, path)
            if candidate.outcome in {Outcome.TAKEN, Outcome.REFUSED}:
                break
        provided = ""
        if all(c.outcome is Outcome.ABSENT for c in candidates) and name.lower().startswith(_API_SET_PREFIXES):
            provided = "an API set: a name that the operating system maps to its own libraries"
        return Resolution(name, requester, how, tuple(candidates), taken, provided_by_system=provided)

    def _places(self, name: str) -> Iterator[tuple[MachinePath, str]]:
        file_name = name if "." in name else name + ".dll"
        if "\\" in file_name or "/" in file_name:
            yield self._machine.join(self._machine.folder_of(self._program), file_name), "the name is a path"
            return
        seen = set()
        for folder, because in self._folders:
            if (key := self._machine.folded(folder)) not in seen:
                seen.add(key)
                yield self._machine.join(folder, file_name), because

    def _load(self, name: str, path: MachinePath) -> MachinePath:
        path = self._machine.real(path)
        self._by_name[name.lower()] = path
        if path not in self._loaded:
            pe = self._machine.binary(path)
            assert isinstance(pe, Pe)  # noqa: S101 - _try took it as one
            self._loaded[path] = pe
            self._queue.append((path, pe))
        return path

    def _try(self, path: MachinePath, because: str) -> Candidate:
        entry = self._machine.look(path)
        if entry.kind is EntryKind.BLOCKED:
            return Candidate(path, Outcome.BLOCKED, because, entry.why)
        if entry.kind is not EntryKind.FILE:  # a folder of that name is passed over
            return Candidate(path, Outcome.ABSENT, because)
        pe = read_candidate(self._machine, path, because)
        if isinstance(pe, Candidate):
            return pe
        if not isinstance(pe, Pe):
            return Candidate(path, Outcome.REFUSED, because, "is a Linux file", pe.architecture)
        if pe.machine != self._pe.machine:
            detail = f"is for {pe.architecture}"
            return Candidate(path, Outcome.OTHER_ARCHITECTURE, because, detail, pe.architecture)
        return Candidate(path, Outcome.TAKEN, because, architecture=pe.architecture)
