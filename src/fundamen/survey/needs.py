"""Find the lacks of every program and library of a machine, grouped by cause."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, suppress
from enum import Enum, auto
from functools import partial
from itertools import chain, islice
from typing import Self

import msgspec

from fundamen.evidence.authority import Authority, Subject, Testimony
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.machine.machine import Machine
from fundamen.machine.sharing import Where, Workers, can_fork
from fundamen.model.binary import BinaryKind
from fundamen.model.errors import InternalError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.survey.optional_parts import OptionalParts
from fundamen.survey.walking import Walk, Walked
from fundamen.trace.records import Component
from fundamen.trace.trace import find_faults

_AT_ONCE = 64  # executables in a parcel
_ASKED_TOGETHER = 500  # files that authorities are asked about at a time


class Cause(msgspec.Struct, frozen=True):
    """One component that is at fault, and whom it stops."""

    component: Component
    programs: tuple[MachinePath, ...]  # that cannot start for it, in their order
    libraries: tuple[MachinePath, ...]  # that nothing was found to load, and that lack it

    @property
    def title(self) -> str:
        """The component as people say it: its path where the loader takes one, else its name."""
        return self.component.path or self.component.name


class Needs(msgspec.Struct, frozen=True):
    """The result of resolving every need."""

    programs: int
    libraries: int  # that no program loads
    scripts: int
    causes: tuple[Cause, ...]  # those that stop most programs first
    optional: tuple[Cause, ...]  # what only optional parts of packages lack, which is no fault
    unreadable: tuple[tuple[MachinePath, str], ...]  # what could not be traced, and why
    bugs: tuple[InternalError, ...]  # of ours, that kept something from being traced
    given: tuple[tuple[MachinePath, str], ...]  # libraries that get something from their loader: which


Done = Callable[[int], None]  # called with how many more are traced


class Resolving:
    """Traces every program, every library that nothing else loads, and one script of each first line.

    A library that a program loads is judged with it, and one that only libraries load with these. Used as a context:
    what is under way when it is left is dropped.
    """

    def __init__(self, machine: Machine, authorities: Sequence[Authority] = ()) -> None:
        """Prepare.

        Args:
            machine: on which they lie.
            authorities: those who are asked about the files that things depend on.
        """
        self._machine = machine
        self._authorities = authorities
        self._looking = _Looking(machine, tells_files=bool(authorities))
        self._under_way = ExitStack()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_how: object) -> None:
        self._under_way.close()

    def begin(self, walk: Walk) -> None:
        """Go the way, and begin with the executables as they are found; it is gone when this returns."""
        shared = self._machine.may_be_shared and can_fork() and walk.is_long()
        workers = Workers(Where.PROCESSES if shared else Where.HERE, self._looking.look, walk.go_leg)
        self._workers = self._under_way.enter_context(workers)
        begun = []
        waiting: list[MachinePath] = []
        for executables in walk.go(workers.begin):
            waiting += executables
            while len(waiting) >= _AT_ONCE:
                begun.append(workers.begin(self._looking.look, [_Parcel(_Ask.PROGRAMS, waiting[:_AT_ONCE])]))
                del waiting[:_AT_ONCE]
        begun.append(workers.begin(self._looking.look, _parcels(_Ask.PROGRAMS, waiting)))
        self._seen = chain.from_iterable(begun)

    def finish(self, walked: Walked, done: Done = lambda _count: None, asking: Done = lambda _count: None) -> Needs:
        """Wait for the rest.

        Args:
            walked: all that was found; its executables are those with which this began.
            done: called with how many more are done.
            asking: called with the number of files before authorities are asked about them; then they are counted.
        """
        gathering = _Gathering(self._machine, done)
        begin = partial(self._workers.begin, self._looking.look)
        gathering.take(self._seen)
        alone = [each for each in gathering.libraries if not gathering.is_loaded(each.path)]
        done(len(gathering.libraries) - len(alone))
        needed = {name for library in alone for name in library.needs - library.names}
        first = [library.path for library in alone if needed.isdisjoint(library.names)]
        gathering.take(begin(_parcels(_Ask.ALL, first)), by_itself=True)
        rest = [library.path for library in alone if not gathering.is_loaded(library.path)]
        done(len(alone) - len(first) - len(rest))
        gathering.take(begin(_parcels(_Ask.ALL, rest)), by_itself=True)
        scripts = {paths[0]: paths for paths in walked.scripts.values()}
        gathering.take(begin(_parcels(_Ask.ALL, scripts)), alike=scripts)
        gathering.put_in_order()
        if self._authorities:
            asking(len(gathering.subjects))
            gathering.judged_again = self._judge_again(gathering, done)
        causes, optional = _without_optional_parts(self._machine, gathering.causes(walked.executables))
        return Needs(
            programs=len(walked.executables) - len(gathering.libraries),
            libraries=len(alone),
            scripts=sum(map(len, walked.scripts.values())),
            causes=causes,
            optional=optional,
            unreadable=tuple(gathering.unreadable),
            bugs=tuple(gathering.bugs),
            given=tuple(gathering.given),
        )

    def _judge_again(self, gathering: "_Gathering", done: Done) -> dict[MachinePath, tuple[Component, ...]]:
        """The faults of whatever has some, or depends on a file of which someone says that it is wrong."""
        said = [_Said() for _ in self._authorities]
        subjects = list(gathering.subjects.values())
        for begin in range(0, len(subjects), _ASKED_TOGETHER):
            parcel = subjects[begin : begin + _ASKED_TOGETHER]
            for authority, of_whom in zip(self._authorities, said, strict=True):
                of_whom.testimonies |= authority.testify(self._machine, parcel)
            done(len(parcel))
        wrong = {
            path for each in said for path, testimonies in each.testimonies.items() if testimonies.says.verdict.is_fault
        }
        again = [each.path for each in gathering.traced if each.faults or not wrong.isdisjoint(each.files)]
        all_loaded_files = zip(again, find_faults(self._machine, again, said), strict=True)
        return {
            path: loaded_files.faults
            for path, loaded_files in all_loaded_files
            if not isinstance(loaded_files, UnreadableError)
        }


def _without_optional_parts(machine: Machine, causes: Sequence[Cause]) -> tuple[tuple[Cause, ...], tuple[Cause, ...]]:
    """(causes, those of which only optional parts of packages know)."""
    optional_parts = OptionalParts(machine)
    kept, optional = list[Cause](), list[Cause]()
    for cause in causes:
        apart = optional_parts.find(cause.component, (*cause.programs, *cause.libraries))
        for found, are_apart in ((kept, False), (optional, True)):
            programs = tuple(path for path in cause.programs if (path in apart) is are_apart)
            libraries = tuple(path for path in cause.libraries if (path in apart) is are_apart)
            if programs or libraries:
                found.append(Cause(cause.component, programs, libraries))
    return tuple(sorted(kept, key=_widest_first)), tuple(sorted(optional, key=_widest_first))


def _widest_first(cause: Cause) -> tuple[int, int, str]:
    return -len(cause.programs), -len(cause.libraries), cause.title


class _Said:
    """An authority that repeats what another has said already."""

    def __init__(self) -> None:
        self.testimonies: dict[MachinePath, Testimony] = {}

    def testify(self, _machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Say it again."""
        return {
            subject.path: self.testimonies[subject.path] for subject in subjects if subject.path in self.testimonies
        }


class _Ask(Enum):
    PROGRAMS = auto()  # trace the programs; of the libraries, only tell what they are called and need
    ALL = auto()  # trace all, whatever they are


class _Parcel(msgspec.Struct, frozen=True):
    ask: _Ask
    paths: list[MachinePath]


def _parcels(ask: _Ask, paths: Iterable[MachinePath]) -> Iterator[_Parcel]:
    coming = iter(paths)
    while parcel := list(islice(coming, _AT_ONCE)):
        yield _Parcel(ask, parcel)


class _Library(msgspec.Struct, frozen=True):
    path: MachinePath
    names: frozenset[str]  # that a need may call it by
    needs: frozenset[str]


class _Traced(msgspec.Struct, frozen=True):
    path: MachinePath
    faults: tuple[Component, ...]
    files: tuple[MachinePath, ...]  # that it depends on, where someone is to be asked about them
    by_itself: bool  # it is a library
    alike: tuple[MachinePath, ...] = ()  # which fare as it does, itself among them


class _Looked(msgspec.Struct, frozen=True):
    """The result of one parcel."""

    count: int  # of what is done with
    loaded: set[MachinePath]  # every file, by its real path, that something depends on
    traced: list[_Traced]  # those with faults, or all where someone is to be asked about files
    unreadable: list[tuple[MachinePath, str]]
    bugs: list[InternalError]  # of ours, among the reasons
    libraries: list[_Library]
    subjects: list[Subject]  # files that did not come up before, where someone is to be asked about them


class _Looking:
    """Looks at parcels of executables, in whichever process."""

    def __init__(self, machine: Machine, *, tells_files: bool) -> None:
        self._machine = machine
        self._tells_files = tells_files
        self._asked: set[MachinePath] = set()

    def look(self, parcel: _Parcel) -> _Looked:
        """Look at some executables."""
        libraries = []
        paths = parcel.paths
        if parcel.ask is _Ask.PROGRAMS:
            libraries = [library for path in paths if (library := self._library(path)) is not None]
            known = {library.path for library in libraries}
            paths = [path for path in paths if path not in known]
        looked = _Looked(len(paths), set(), [], [], [], libraries, [])
        for path, loaded_files in zip(paths, find_faults(self._machine, paths), strict=True):
            if isinstance(loaded_files, UnreadableError):
                looked.unreadable.append((path, loaded_files.why))
                looked.bugs.extend([loaded_files] if isinstance(loaded_files, InternalError) else [])
                continue
            looked.loaded.update(map(self._machine.real, loaded_files.files))
            if self._tells_files:
                looked.subjects.extend(self._subjects(loaded_files.files))
            if loaded_files.faults or self._tells_files:
                files = loaded_files.files if self._tells_files else ()
                looked.traced.append(_Traced(path, loaded_files.faults, files, by_itself=False))
        return looked

    def _subjects(self, files: Iterable[MachinePath]) -> Iterator[Subject]:
        """Those files that can be asked about, each once."""
        for path in files:
            if path not in self._asked:
                self._asked.add(path)
                with suppress(UnreadableError):
                    binary = self._machine.binary(path)
                    yield Subject(path, binary.name or self._machine.paths.basename(path), binary.architecture)

    def _library(self, path: MachinePath) -> _Library | None:
        """The name and needs of a library; None for a program, and for an unreadable file: a trace says why."""
        try:
            binary = self._machine.binary(path)
            # Some libraries can be run as programs too: it counts what their mode says.
            if binary.kind is BinaryKind.PROGRAM and not (".so" in path and not self._machine.look(path).is_executable):
                return None
        except UnreadableError:
            return None
        self._machine.forget(path)
        basename, folded = self._machine.paths.basename, self._machine.fold
        names = {folded(basename(path)), folded(basename(binary.name or path))}
        needs = frozenset(folded(basename(need.name)) for need in binary.needs)
        return _Library(path, frozenset(names), needs)


class _Found(msgspec.Struct):
    component: Component
    programs: list[MachinePath]
    libraries: list[MachinePath]


class _Gathering:
    def __init__(self, machine: Machine, done: Done) -> None:
        self._machine = machine
        self._done = done
        self._loaded: set[MachinePath] = set()
        self.traced: list[_Traced] = []
        self.subjects: dict[MachinePath, Subject] = {}
        self.judged_again: dict[MachinePath, tuple[Component, ...]] = {}
        self.unreadable: list[tuple[MachinePath, str]] = []
        self.bugs: list[InternalError] = []
        self.given: list[tuple[MachinePath, str]] = []
        self.libraries: list[_Library] = []

    def is_loaded(self, library: MachinePath) -> bool:
        """Whether something that was traced depends on a file."""
        return self._machine.real(library) in self._loaded

    def put_in_order(self) -> None:
        """Forget in which order processes happened to come to things."""
        self.traced.sort(key=lambda each: (each.by_itself, each.path))
        self.unreadable.sort()

    def take(
        self,
        seen: Iterable[_Looked],
        *,
        by_itself: bool = False,
        alike: Mapping[MachinePath, tuple[MachinePath, ...]] | None = None,
    ) -> None:
        """Take in what was seen, of libraries by themselves or not; ``alike`` are those that fare as one path does."""
        for looked in seen:
            self._loaded |= looked.loaded
            self.unreadable += looked.unreadable
            self.bugs += looked.bugs
            self.libraries += looked.libraries
            self.subjects |= {subject.path: subject for subject in looked.subjects}
            self.traced += [
                msgspec.structs.replace(each, by_itself=by_itself, alike=(alike or {}).get(each.path, (each.path,)))
                for each in looked.traced
            ]
            self._done(looked.count)

    def _group_faults(self) -> Iterable[_Found]:
        """The faults, grouped by what is at fault."""
        groups: dict[tuple[str, str, str], _Found] = {}
        for each in self.traced:
            for fault in self.judged_again.get(each.path, each.faults):
                if each.by_itself and fault.verdict is Verdict.BLOCKED and fault.path == each.path:
                    continue  # no one runs a library
                culprit = self._culprit(fault)
                key = (self._machine.fold(culprit), str(fault.verdict), str(fault.wanted_architecture))
                found = groups.setdefault(key, _Found(fault, [], []))
                if each.by_itself and found.programs and culprit == self._machine.real(each.path):
                    continue  # it is the cause that was reported already
                (found.libraries if each.by_itself else found.programs).extend(each.alike)
        return groups.values()

    def _culprit(self, fault: Component) -> str:
        """The file that is at fault, by whatever name it was reached; the name where there is none."""
        refused = (each.path for each in fault.searched if each.outcome is CandidateOutcome.REFUSED)
        path = fault.path or next(refused, None)
        return fault.name if path is None else self._machine.real(path)

    def causes(self, executables: Sequence[MachinePath]) -> tuple[Cause, ...]:
        """All causes; of libraries by themselves only what no file that was surveyed could be."""
        basename = self._machine.paths.basename
        lying: dict[str, list[MachinePath]] = {}
        for path in executables:
            lying.setdefault(self._machine.fold(basename(path)), []).append(path)
        causes = []
        for found in self._group_faults():
            if not found.programs and self._lies_somewhere(found.component, lying):
                self.given += [(path, found.component.name) for path in found.libraries]
                continue
            causes.append(Cause(found.component, tuple(found.programs), tuple(found.libraries)))
        return tuple(causes)

    def _lies_somewhere(self, component: Component, lying: dict[str, list[MachinePath]]) -> bool:
        """Whether a file that could be a missing component was surveyed: then the library's loader may have it."""
        if component.verdict not in {Verdict.MISSING, Verdict.WRONG_ARCHITECTURE}:
            return False
        for path in lying.get(self._machine.fold(self._machine.paths.basename(component.name)), ()):
            try:
                if self._machine.binary(path).architecture.serves(component.wanted_architecture):
                    return True
            except UnreadableError:
                continue
        return False
