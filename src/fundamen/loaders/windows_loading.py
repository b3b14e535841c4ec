"""How the Windows image loader finds the DLLs of a program.

The order: files of side-by-side assemblies (``windows_assemblies``), API sets, names that are loaded already, known
libraries, the search order (``windows_search``). A candidate of another architecture is passed over and the search goes
on. Then every import is bound (``windows_binding``).
"""

from collections import deque
from collections.abc import Iterator
from functools import cached_property

import msgspec

from fundamen.formats.windows.api_set import PREFIXES
from fundamen.formats.windows.pe import Pe
from fundamen.loaders import windows_parts
from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap, Resolution, Unoffered, read_candidate
from fundamen.loaders.windows_assemblies import Assemblies, Redirections
from fundamen.loaders.windows_binding import Binding
from fundamen.loaders.windows_processes import as_seen, processes_of, system_folders
from fundamen.loaders.windows_search import SearchOrder
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.binary import Necessity
from fundamen.model.paths import MachinePath

_MOST_OBJECTS = 10_000


def runtime_config_of(machine: Machine, program: MachinePath) -> MachinePath:
    """Where the configuration of the shared frameworks of a program lies, if it uses any."""
    return MachinePath(machine.paths.splitext(program)[0] + ".runtimeconfig.json")


class Loading:
    """The progress of the image loader for one program.

    Attributes:
        machine: where it is started.
        program: the file that is started.
        pe: its image.
        processes: what the machine runs.
        architecture: of the process.
    """

    def __init__(self, machine: Machine, program: MachinePath, pe: Pe) -> None:
        """Begin; nothing is loaded yet."""
        self.machine = machine
        self.program = program
        self.pe = pe
        self.processes = processes_of(machine)
        self.architecture = self.processes.process_of(pe)
        self._order = SearchOrder(machine, program, self.architecture)
        self._loaded: dict[MachinePath, Pe] = {}
        self._by_name: dict[str, MachinePath] = {}
        self._known: set[MachinePath] = set()  # what was loaded as a known library, and what such a one needs
        self._queue: deque[tuple[MachinePath, Pe]] = deque()
        self._resolutions: list[Resolution] = []
        self._unoffered: list[Unoffered] = []
        self._binding = Binding(machine, self.need)
        self._assemblies = Assemblies(machine, self.architecture)
        self._redirections: dict[MachinePath, Redirections] = {}

    def take(self, path: MachinePath, pe: Pe) -> None:
        """Load what an image needs at the next ``run``; the image itself counts as loaded unless it is the program."""
        if path != self.program:
            self._loaded[path] = pe
        self._queue.append((path, pe))

    def count(self, path: MachinePath, pe: Pe) -> None:
        """Count a file as loaded, not by the image loader: nothing that it imports is looked for."""
        if path != self.program:
            self._loaded.setdefault(path, pe)

    def answer(self, resolution: Resolution) -> None:
        """Write down an answer that does not come from the image loader."""
        self._resolutions.append(resolution)

    def answer_unread(self, place: MachinePath, because: Message, why: Message, gives_up_with: str) -> None:
        """Write down that a file which says how the program is to be started is not there, or is damaged."""
        is_there = self.machine.look(place).kind is EntryKind.FILE
        candidate = Candidate(place, CandidateOutcome.REFUSED if is_there else CandidateOutcome.ABSENT, because, why)
        name = self.machine.paths.basename(place)
        self.answer(
            Resolution(
                name,
                self.program,
                Necessity.REQUIRED,
                (candidate,),
                None,
                "configuration",
                gives_up_with=say("common.status", status=gives_up_with),
            )
        )

    def run(self) -> None:
        """Load all that the images taken so far need, directly and indirectly."""
        while self._queue and len(self._loaded) < _MOST_OBJECTS:
            path, pe = self._queue.popleft()
            self._redirections[path], assemblies = self._assemblies.asked_for(path, pe)
            self._resolutions += assemblies
            found = {(need.name, need.how): self.need(need.name, need.how, path) for need in pe.needs}
            for library in pe.imports:
                target = found[library.name, library.how]
                if target is not None and (gap := self._binding.bind(path, library, target)):
                    self._unoffered.append(gap)

    def load_map(self) -> LoadMap:
        """All that was done."""
        return LoadMap(
            program=self.program,
            binary=self.pe,
            architecture=self.architecture,
            loaded=dict(self._loaded),
            resolutions=tuple(self._resolutions),
            unoffered=tuple(self._unoffered),
            runs_here=UNSAID if self.processes.runs(self.architecture) else as_said(str(self.processes)),
        )

    def need(self, name: str, how: Necessity, requester: MachinePath) -> MachinePath | None:
        """Resolve a need, write the answer down, and give the path that is loaded."""
        resolution = self._resolve(name, how, requester)
        self._resolutions.append(resolution)
        return resolution.path

    def _resolve(self, name: str, how: Necessity, requester: MachinePath) -> Resolution:
        redirected = self._find_redirected(name, requester)
        if redirected is not None:
            return self._from_assembly(name, how, requester, redirected)
        is_api_set = name.lower().startswith(PREFIXES)
        behind = self._order.behind_api_set(name, self.machine.paths.basename(requester)) if is_api_set else None
        wanted = behind or name
        known = self._by_name.get(wanted.lower())
        if known is not None:
            return Resolution(name, requester, how, (), known)
        candidates: list[Candidate] = []
        taken: MachinePath | None = None
        for path, because in self._places(wanted, requester, is_behind_api_set=behind is not None):
            candidate = self._try(path, because)
            candidates.append(candidate)
            if candidate.outcome is CandidateOutcome.TAKEN:
                taken = self._load(wanted, path, requester)
            if candidate.outcome in {CandidateOutcome.TAKEN, CandidateOutcome.REFUSED}:
                break
        provided = decided = UNSAID
        if taken is None and not is_api_set:
            candidates += self._in_other_system_folders(wanted, {candidate.path for candidate in candidates})
        if all(candidate.outcome is CandidateOutcome.ABSENT for candidate in candidates):
            provided, decided = self._by_the_system(name)
        return Resolution(name, requester, how, tuple(candidates), taken, provided_by_system=provided, decided=decided)

    def _in_other_system_folders(self, name: str, tried: set[MachinePath]) -> Iterator[Candidate]:
        """Copies in the system folders of other widths, where a program never looks and people put them by mistake."""
        for folder in system_folders(self.machine):
            path = self.machine.join(folder, name if "." in name else name + ".dll")
            found = (
                self._try(path, say("loaders.a-system-folder-for-another-architecture")) if path not in tried else None
            )
            if found is not None and found.architecture is not None:
                detail = say("loaders.is-for-in-a-folder-that", architecture=found.architecture)
                yield msgspec.structs.replace(found, outcome=CandidateOutcome.NOT_SEARCHED, detail=detail)

    def _by_the_system(self, name: str) -> tuple[Message, Message]:
        """Why the system itself provides what no file does, or why it does not though later versions do."""
        first = windows_parts.first_build_with(name)
        if first is not None and not self._order.has_schema:
            since = say("loaders.with-the-operating-system-from-on", release=windows_parts.title_of(first))
            if self._build is None or self._build >= first:
                return say("loaders.an-api-set-it-comes", since=since), UNSAID
            own = windows_parts.title_of(self._build)
            return UNSAID, say("loaders.an-api-set-it-comes-and", since=since, own=own)
        if not self.processes.is_known and windows_parts.is_part(name):
            return say("loaders.a-part-of-windows-this-volume"), UNSAID
        return UNSAID, UNSAID

    @cached_property
    def _build(self) -> int | None:
        return windows_parts.build_of(self.machine)

    def _find_redirected(self, name: str, requester: MachinePath) -> MachinePath | None:
        """The file that an assembly of the requester's own manifest, or of the program's, has for a name."""
        for asking in (requester, self.program):
            path = self._redirections.get(asking, {}).get(name.lower())
            if path is not None:
                return path
        return None

    def _from_assembly(self, name: str, how: Necessity, requester: MachinePath, path: MachinePath) -> Resolution:
        candidate = self._try(path, say("loaders.a-file-of-an-assembly-that"))
        taken = self._load(None, path, requester) if candidate.outcome is CandidateOutcome.TAKEN else None
        return Resolution(name, requester, how, (candidate,), taken)

    def _places(
        self, name: str, requester: MachinePath, *, is_behind_api_set: bool
    ) -> Iterator[tuple[MachinePath, Message]]:
        file_name = name if "." in name else name + ".dll"
        if "\\" in file_name or "/" in file_name:
            path = self.machine.join(self.machine.folder_of(self.program), file_name)
            yield as_seen(self.machine, self.architecture, path), say("loaders.the-name-is-a-path")
            return
        system = self.machine.join(self._order.system, file_name)
        if is_behind_api_set:
            yield system, say("loaders.what-this-system-puts-behind-the")
            return
        if self._order.is_known(file_name):
            yield system, say("loaders.a-known-library-always-the-system")
            return
        if requester in self._known:
            yield system, say("loaders.what-a-known-library-needs-from")
        for folder, because in self._order.folders:
            if folder != self._order.system or requester not in self._known:
                yield self.machine.join(folder, file_name), because

    def _load(self, name: str | None, path: MachinePath, requester: MachinePath) -> MachinePath:
        """Count a file as loaded. An assembly's has no name here: who asks without the manifest does not get it."""
        path = self.machine.real(path)
        if name is not None:
            self._by_name[name.lower()] = path
        if path not in self._loaded:
            pe = self.machine.binary(path)
            assert isinstance(pe, Pe)  # noqa: S101 - _try took it as one
            self._loaded[path] = pe
            self._queue.append((path, pe))
            if requester in self._known or (name is not None and self._order.is_known(name)):
                self._known.add(path)
        return path

    def _try(self, path: MachinePath, because: Message) -> Candidate:
        entry = self.machine.look(path)
        if entry.kind is EntryKind.BLOCKED:
            return Candidate(path, CandidateOutcome.BLOCKED, because, entry.why)
        if entry.kind is not EntryKind.FILE:  # a folder of that name is passed over
            return Candidate(path, CandidateOutcome.ABSENT, because)
        pe = read_candidate(self.machine, path, because)
        if isinstance(pe, Candidate):
            return pe
        if not isinstance(pe, Pe):
            return Candidate(path, CandidateOutcome.REFUSED, because, say("loaders.is-a-linux-file"), pe.architecture)
        if not self.processes.takes(self.architecture, pe):
            detail = say("loaders.is-for", architecture=pe.architecture)
            return Candidate(path, CandidateOutcome.OTHER_ARCHITECTURE, because, detail, pe.architecture)
        return Candidate(path, CandidateOutcome.TAKEN, because, architecture=pe.architecture)
