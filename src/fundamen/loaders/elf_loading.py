"""Share the rules of the ELF loaders: needs in breadth-first order, each candidate judged.

Each loader adds where it looks, by which names it knows what is loaded, and which files it refuses.
"""

from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.formats.unix.elf import Elf, ElfType
from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap, Resolution, Unoffered, find_candidate
from fundamen.machine.access import Runner, find_barrier, user_of
from fundamen.machine.machine import ANYWHERE, EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.binary import Necessity, Need
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_OBJECTS = 10_000  # what one program may load before we call the graph hostile
_MOST_CONFIGURATION = 1 << 20  # bytes of one configuration file


class LoadedObject(msgspec.Struct, frozen=True):
    """One file that is loaded, with what its own needs inherit."""

    path: MachinePath
    elf: Elf
    stands_at: MachinePath  # the path that $ORIGIN is of
    loaded_by: "LoadedObject | None"
    has_no_path: bool = False  # whether its own search path does not count

    @property
    def origin(self) -> str:
        """The value of $ORIGIN."""
        return self.stands_at.rpartition("/")[0] or "/"


class ElfLoading(ABC):
    """One program's loading, up to the point where its own code would start."""

    def __init__(self, machine: Machine, program: MachinePath, elf: Elf) -> None:
        self._machine = machine
        self._elf = elf
        self._program = LoadedObject(program, elf, machine.real(program), None)  # the kernel gives its real path
        self._kind = (elf.bits, elf.machine, elf.big_endian)
        # What was made of files at places where the loader looks: most of them are libraries that all programs share.
        self._user = user_of(machine, program)
        self._tried: dict[tuple[MachinePath, str], Candidate] = machine.fact(
            ANYWHERE, _nothing_tried, type(self), self._kind, self._user
        )
        self._loaded: dict[MachinePath, Elf] = {}
        self._objects: dict[MachinePath, LoadedObject] = {}
        self._by_name: dict[str, MachinePath] = {}
        self._by_file: dict[MachinePath, MachinePath] = {}
        self._queue: deque[LoadedObject] = deque([self._program])
        self._interpreter: MachinePath | None = None

    def run(self, also: Sequence[str] = ()) -> LoadMap:
        """Do what the loader would do, without running anything; ``also`` is what the program asks for as it runs."""
        resolutions = [*self._resolve_interpreter(), *self._preload(), *self._resolve_waiting()]
        for name in also:
            resolutions.append(self._resolve(name, self._program, Necessity.DELAYED))
            resolutions += self._resolve_waiting()
        return LoadMap(
            program=self._program.path,
            binary=self._elf,
            architecture=self._elf.architecture,
            loaded=dict(self._loaded),
            resolutions=tuple(resolutions),
            unoffered=tuple(self._find_unoffered()),
        )

    def _resolve_waiting(self) -> Iterator[Resolution]:
        """The needs of all that is loaded, breadth first."""
        while self._queue and len(self._loaded) < _MOST_OBJECTS:
            requester = self._queue.popleft()
            for need in self._needs_of(requester.elf):
                yield self._resolve(need.name, requester, need.how)

    @abstractmethod
    def _places(self, name: str, requester: LoadedObject) -> Iterator[tuple[MachinePath, Message]]:
        """Where the loader looks for a name, in its order, each place with the rule that leads there."""

    @abstractmethod
    def _judge_candidate(self, path: MachinePath, because: Message, elf: Elf) -> Candidate:
        """The loader's judgement of an ELF file at a place that it searches."""

    @abstractmethod
    def _preloaded_names(self) -> list[str]:
        """The names that are to be loaded before all others."""

    def _needs_of(self, elf: Elf) -> tuple[Need, ...]:
        """The libraries that the loader loads for a file."""
        return (*elf.needs, *elf.filters)

    def _preloader(self) -> LoadedObject:
        """On whose behalf the names are searched that are to be loaded before all others."""
        return self._program

    def _find_known(self, name: str) -> MachinePath | None:
        """The loaded file that a name stands for without any search."""
        return self._by_name.get(name)

    def _names_of(self, elf: Elf) -> list[str]:
        """By which names of its own a loaded file is known besides the one that it was found by."""
        return [elf.name] if elf.name else []

    def _find_unoffered(self) -> Iterator[Unoffered]:
        """Imports of loaded files that the libraries do not export."""
        return iter(())

    def _is_of_our_kind(self, elf: Elf) -> bool:
        """Whether a file is for the same processor, width and byte order as the program."""
        return (elf.bits, elf.machine, elf.big_endian) == self._kind

    def _map_file(self, path: MachinePath, because: Message, elf: Elf) -> Candidate:
        """The loader's judgement of a file of our kind as it is mapped."""
        if elf.type not in {ElfType.DYN, ElfType.EXEC}:
            detail = say("loaders.is-neither-a-shared-library-nor")
            return Candidate(path, CandidateOutcome.REFUSED, because, detail, elf.architecture)
        if not elf.segments:
            reason = elf.problems[0].reason if elf.problems else say("loaders.it-has-no-segments")
            return Candidate(
                path,
                CandidateOutcome.REFUSED,
                because,
                say("loaders.cannot-be-mapped", reason=reason),
                elf.architecture,
            )
        return Candidate(path, CandidateOutcome.TAKEN, because, architecture=elf.architecture)

    def _tidy(self, folder: str) -> str:
        """Take ``..`` out where that leads to the same folder; behind a link, or nothing, it does not."""
        before, dots, _ = folder.partition("/..")
        if not dots:
            return self._machine.join(folder)
        shorter = self._machine.join(folder)
        is_there = self._machine.look(MachinePath(before or "/")).kind is EntryKind.FOLDER
        is_same = is_there and self._machine.real(shorter) == self._machine.real(MachinePath(folder))
        return shorter if is_same else folder.rstrip("/")

    def _not_searched(self, name: str, tried: set[MachinePath]) -> Iterator[Candidate]:  # noqa: ARG002 - for others
        """Copies of what was not found that lie where the loader does not look."""
        return iter(())

    def _resolve_interpreter(self) -> Iterator[Resolution]:
        """The kernel opens the interpreter by the path in the program; the loader then counts as loaded."""
        name = self._elf.interpreter
        if not name:
            return
        candidate = self._try(MachinePath(name), say("loaders.the-program-names-it-pt-interp"))
        path = candidate.path if candidate.outcome is CandidateOutcome.TAKEN else None
        yield Resolution(name, self._program.path, Necessity.REQUIRED, (candidate,), path, kind="loader")
        if path is not None:
            self._interpreter = path
            self._by_name[name] = path
            self._load(path, self._program)

    def _preload(self) -> Iterator[Resolution]:
        """Libraries that are loaded before the program's own. The loader only warns where one is missing."""
        for name in self._preloaded_names() if self._interpreter is not None else ():
            resolution = self._resolve(name, self._preloader(), Necessity.OPTIONAL)
            is_loaded = resolution.path is not None  # and then what it needs in turn is required
            yield msgspec.structs.replace(resolution, how=Necessity.REQUIRED) if is_loaded else resolution

    def _resolve(self, name: str, requester: LoadedObject, how: Necessity = Necessity.REQUIRED) -> Resolution:
        known = self._find_known(name)
        if known is not None:
            return Resolution(name, requester.path, how, (), known)
        candidates: list[Candidate] = []
        taken: MachinePath | None = None
        look, is_known_absent, absent = self._machine.look, self._machine.is_known_absent, CandidateOutcome.ABSENT
        for path, because in self._places(name, requester):
            if is_known_absent(path) or look(path).kind is EntryKind.ABSENT:  # as nearly always
                candidates.append(Candidate(path, absent, because))
                continue
            candidate = self._try(path, because)
            candidates.append(candidate)
            outcome = candidate.outcome
            if outcome is CandidateOutcome.TAKEN:
                taken = self._load(path, requester)
                self._by_name[name] = taken
            if outcome is CandidateOutcome.TAKEN or outcome is CandidateOutcome.REFUSED:
                break
        else:
            found = {self._machine.real(c.path) for c in candidates if c.outcome is not CandidateOutcome.ABSENT}
            candidates += self._not_searched(name, found)
        return Resolution(name, requester.path, how, tuple(candidates), taken)

    def _load(self, path: MachinePath, requester: LoadedObject) -> MachinePath:
        """Count a file as loaded, unless it is there under another name; give the path it is loaded under."""
        file = self._machine.real(path)
        if file in self._by_file:
            return self._by_file[file]
        self._by_file[file] = path
        elf = self._machine.binary(path)
        assert isinstance(elf, Elf)  # noqa: S101 - _try took it as one
        self._loaded[path] = elf
        for name in self._names_of(elf):
            self._by_name.setdefault(name, path)
        self._objects[path] = LoadedObject(path, elf, path, requester)
        self._queue.append(self._objects[path])
        return path

    def _try(self, path: MachinePath, because: Message) -> Candidate:
        place = (path, because)
        known = self._tried.get(place)
        if known is None:
            if self._machine.look(path).kind is EntryKind.ABSENT:  # as nearly always
                return Candidate(path, CandidateOutcome.ABSENT, because)
            known = self._tried[place] = self._looked_at(path, because)
        return known

    def _looked_at(self, path: MachinePath, because: Message) -> Candidate:
        elf = find_candidate(self._machine, path, because)
        barrier = find_barrier(self._machine, path, self._user) if self._user is not None else None
        if barrier is not None and self._user is not None:  # the loader goes on to the next place
            return Candidate(path, CandidateOutcome.BLOCKED, because, barrier.reason(self._user))
        if isinstance(elf, Candidate):
            return elf
        if not isinstance(elf, Elf):
            return Candidate(path, CandidateOutcome.REFUSED, because, say("loaders.is-no-elf-file"), elf.architecture)
        return self._judge_candidate(path, because, elf)


def _nothing_tried(
    _machine: Machine,
    _path: MachinePath,
    _loader: type[ElfLoading],
    _kind: tuple[int, int, bool],
    _user: Runner | None,
) -> dict[tuple[MachinePath, str], Candidate]:
    """An empty memory of attempts of one kind of loader for one kind of programs, which they share as a fact."""
    return {}


def lines_of(machine: Machine, file: MachinePath) -> list[str]:
    """The lines of a configuration file without comments; none where it cannot be read."""
    try:
        text = machine.content(file, _MOST_CONFIGURATION).decode("utf-8", "surrogateescape")
    except UnreadableError:
        return []
    return [line.partition("#")[0].strip() for line in text.splitlines()]


def words_of(text: str) -> list[str]:
    """The names in a list of libraries to preload: blanks and colons stand between them."""
    return text.replace(":", " ").split()
