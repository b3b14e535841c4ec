"""Trace a program: what it needs, directly and indirectly, and how each need stands."""

import logging
from collections.abc import Callable, Iterator, Sequence
from itertools import chain
from typing import TypeVar

import msgspec

from fundamen.evidence.authority import Authority, Subject, Testimony
from fundamen.evidence.certificate_bundle import BUNDLE
from fundamen.evidence.dpkg_database import STATUS
from fundamen.loaders.load_map import LoadMap
from fundamen.loaders.loading import LAUNCHERS, load_map
from fundamen.loaders.preload_list import PRELOAD
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.observation import Observation
from fundamen.machine.sharing import Where, Workers, can_fork
from fundamen.machine.units import is_masked
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Format
from fundamen.model.errors import InternalError, NotExecutableError, UnreadableError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import MachinePath
from fundamen.model.timing import log_time
from fundamen.trace.judging import Judging
from fundamen.trace.records import LoadedFiles, Trace

_LOG = logging.getLogger(__name__)

_Result = TypeVar("_Result")
_AT_ONCE = 64  # programs whose files the authorities are asked about together
_LEARNT_FROM = 64  # programs after which the authorities know most of what many programs share
_MANY = 200  # programs from which on further processes pay


def trace_program(
    machine: Machine,
    program: MachinePath,
    authorities: Sequence[Authority] = (),
    observation: Observation | None = None,
    *,
    symbols: bool = False,
    follows: bool = True,
) -> Trace:
    """Find all that a program or library needs and judge each need; every fault is found in one pass.

    The list of an installed package's files stands for the package, whose files are judged then. A shell script is
    followed to the program that it starts, unless ``follows`` is false.

    What it was seen to ask for as it ran is added, if it was run, and the symbols that no one defines, if asked for.

    Raises:
        UnreadableError: the program cannot be read, or is no program of this machine.
    """
    if (stand_in := _trace_by_package(machine, program)) is not None:
        return stand_in
    try:
        loading = load_map(machine, program)
    except NotExecutableError:
        if (stand_in := _trace_file(machine, program)) is None:
            raise
        return stand_in
    if observation is not None:
        loading = load_map(machine, program, _undeclared_libraries(machine, loading, observation))
    loading = _with_started(machine, loading) if follows else loading
    if symbols:
        loading = _with_symbols(machine, loading)
    testimonies = _Testimonies(machine, authorities)
    testimonies.ask([loading])
    return Judging(machine, loading, testimonies.known, observation).trace()


def trace_programs(
    machine: Machine,
    programs: Sequence[MachinePath],
    authorities: Sequence[Authority] = (),
    *,
    symbols: bool = False,
    follows: bool = True,
) -> Iterator[Trace | UnreadableError]:
    """Trace many programs or libraries of one machine, in their order; one that cannot be traced gives its error.

    What they share is read and asked about once; what belongs to one alone is forgotten behind it.
    """
    apart = {program: found for program in programs if (found := _trace_apart(machine, program)) is not None}
    of_files = [program for program in programs if program not in apart]
    testimonies = _Testimonies(machine, authorities)
    if len(of_files) >= _MANY and machine.may_be_shared and can_fork():
        judged = _shared_out(machine, of_files, testimonies, symbols=symbols, follows=follows)
    else:
        judged = _judge_programs(machine, of_files, testimonies, Judging.trace, symbols=symbols, follows=follows)
    for program in programs:
        found = apart[program] if program in apart else next(judged)
        yield (_trace_file(machine, program) or found) if isinstance(found, NotExecutableError) else found


def trace_all(
    machine: Machine, programs: Sequence[MachinePath], authorities: Sequence[Authority] = (), *, follows: bool = True
) -> list[Trace]:
    """The traces of some programs, which share what is read and asked. Raises: UnreadableError: one has none."""
    if len(programs) == 1:
        return [trace_program(machine, programs[0], authorities, follows=follows)]
    traces = []
    for found in trace_programs(machine, programs, authorities, follows=follows):
        if isinstance(found, UnreadableError):
            raise found
        traces.append(found)
    return traces


def _shared_out(
    machine: Machine, programs: Sequence[MachinePath], testimonies: "_Testimonies", *, symbols: bool, follows: bool
) -> Iterator[Trace | UnreadableError]:
    """Trace programs in several processes, which begin with what the first programs have taught this one."""

    def trace(batch: Sequence[MachinePath]) -> list[Trace | UnreadableError]:
        return list(_judge_programs(machine, batch, testimonies, Judging.trace, symbols=symbols, follows=follows))

    first = min(len(programs), _LEARNT_FROM if testimonies.has_authorities else 0)
    yield from trace(programs[:first])
    batches = [programs[begin : begin + _AT_ONCE] for begin in range(first, len(programs), _AT_ONCE)]
    with Workers(Where.PROCESSES, trace) as workers:
        yield from chain.from_iterable(workers.begin_as_taken(trace, batches))


def find_faults(
    machine: Machine, programs: Sequence[MachinePath], authorities: Sequence[Authority] = ()
) -> Iterator[LoadedFiles | UnreadableError]:
    """The faults of many programs or libraries, and nothing on verified components: a quicker trace."""
    testimonies = _Testimonies(machine, authorities)  # what a script starts is asked about by itself
    return _judge_programs(machine, programs, testimonies, Judging.find_faults, follows=False)


def _trace_by_package(machine: Machine, path: MachinePath) -> Trace | None:
    """The trace of what only the package database knows: a package, by its list of files, or a program that is gone."""
    if machine.platform is not Platform.LINUX:
        return None
    if path.endswith(".list"):
        from fundamen.evidence.dpkg_files import listed_package  # noqa: PLC0415 - few packages are traced

        if listed_package(path):
            from fundamen.trace.installed import trace_installed  # noqa: PLC0415 - likewise

            return trace_installed(machine, path)
    if path in {STATUS, BUNDLE, PRELOAD}:
        from fundamen.trace import lost  # noqa: PLC0415 - seldom traced

        traced = {STATUS: lost.trace_database, BUNDLE: lost.trace_bundle, PRELOAD: lost.trace_preload_list}
        return traced[path](machine)
    kind = machine.look(path).kind
    if kind is EntryKind.FOLDER:
        return _trace_file(machine, path)
    if kind is EntryKind.ABSENT and not (path.endswith(LAUNCHERS) and is_masked(machine, path)):
        from fundamen.trace.lost import trace_lost  # noqa: PLC0415 - few are gone

        return trace_lost(machine, path)
    return None


def _trace_file(machine: Machine, path: MachinePath) -> Trace | None:
    if machine.platform is not Platform.LINUX:
        return None
    from fundamen.trace.installed import trace_file  # noqa: PLC0415 - few are traced

    return trace_file(machine, path)


def _trace_apart(machine: Machine, path: MachinePath) -> Trace | UnreadableError | None:
    try:
        return _trace_by_package(machine, path)
    except UnreadableError as error:
        return error


def _judge_programs(
    machine: Machine,
    programs: Sequence[MachinePath],
    testimonies: "_Testimonies",
    judge: Callable[[Judging], _Result],
    *,
    symbols: bool = False,
    follows: bool = True,
) -> Iterator[_Result | UnreadableError]:
    for begin in range(0, len(programs), _AT_ONCE):
        batch = programs[begin : begin + _AT_ONCE]
        maps = [_load_map_or_error(machine, program, symbols=symbols, follows=follows) for program in batch]
        for loading in testimonies.ask_apart(maps):
            yield _judgement(machine, loading, testimonies, judge) if isinstance(loading, LoadMap) else loading
        testimonies.forget(batch)
        for program in batch:
            machine.forget(program)


def _judgement(
    machine: Machine, loading: LoadMap, testimonies: "_Testimonies", judge: Callable[[Judging], _Result]
) -> _Result | UnreadableError:
    try:
        with Isolated(loading.program):
            return judge(Judging(machine, loading, testimonies.known, None))
    except UnreadableError as error:
        return error


def _load_map_or_error(
    machine: Machine, program: MachinePath, *, symbols: bool, follows: bool
) -> LoadMap | UnreadableError:
    try:
        with Isolated(program):
            loading = load_map(machine, program)
            loading = _with_started(machine, loading) if follows else loading
            return _with_symbols(machine, loading) if symbols else loading
    except UnreadableError as error:
        return error


def _with_started(machine: Machine, loading: LoadMap) -> LoadMap:
    if loading.binary.format is not Format.SCRIPT:
        return loading
    from fundamen.loaders.wrappers import with_started  # noqa: PLC0415 - most programs are no scripts

    return with_started(machine, loading, load_map)


def _with_symbols(machine: Machine, loading: LoadMap) -> LoadMap:
    from fundamen.loaders.elf_binding import find_undefined  # noqa: PLC0415 - only where asked

    undefined = find_undefined(machine, loading)
    return msgspec.structs.replace(loading, resolutions=(*loading.resolutions, *undefined))


def _undeclared_libraries(machine: Machine, loading: LoadMap, observation: Observation) -> list[str]:
    """Libraries that a program asked for as it ran, besides its declared needs."""
    declared = {machine.fold(path) for path in (loading.program, *loading.loaded)}
    asked = {machine.fold(resolution.name) for resolution in loading.resolutions}
    loaded = [path for path in observation.loaded if machine.fold(machine.real(path)) not in declared]
    return loaded + [name for name, _ in observation.failed if machine.fold(name) not in asked]


class _Testimonies:
    """The statements of every authority on every file that came up; each file is asked about once."""

    def __init__(self, machine: Machine, authorities: Sequence[Authority]) -> None:
        self.known: dict[MachinePath, list[Testimony]] = {}
        self._machine = machine
        self._authorities = authorities

    @property
    def has_authorities(self) -> bool:
        """Whether anybody is asked."""
        return bool(self._authorities)

    def ask(self, loadings: Sequence[LoadMap]) -> None:
        """Ask about all files of some programs at once: an authority may have to read a database for it."""
        files = {
            path: b for loading in loadings for path, b in ((loading.program, loading.binary), *loading.loaded.items())
        }
        subjects = [
            Subject(path, binary.name or self._machine.paths.basename(path), binary.architecture)
            for path, binary in files.items()
            if path not in self.known
        ]
        said: dict[MachinePath, list[Testimony]] = {subject.path: [] for subject in subjects}
        for authority in self._authorities if subjects else ():
            with log_time(_LOG, "asking %s about %d files", type(authority).__name__, len(subjects)):
                for path, testimony in authority.testify(self._machine, subjects).items():
                    said[path].append(testimony)
        self.known.update(said)

    def ask_apart(self, maps: Sequence[LoadMap | UnreadableError]) -> list[LoadMap | UnreadableError]:
        """Ask about all programs at once. Where a bug of ours forbids it, ask about each, so that one fails alone."""
        loadings = [loading for loading in maps if isinstance(loading, LoadMap)]
        try:
            with Isolated(say("trace.the-files-of-these-programs")):
                self.ask(loadings)
        except InternalError:
            return [self._asked_or_error(each) if isinstance(each, LoadMap) else each for each in maps]
        return list(maps)

    def _asked_or_error(self, loading: LoadMap) -> LoadMap | UnreadableError:
        try:
            with Isolated(loading.program):
                self.ask([loading])
        except InternalError as error:
            return error
        return loading

    def forget(self, programs: Sequence[MachinePath]) -> None:
        """Forget what was said of files that do not come up again."""
        for program in programs:
            self.known.pop(program, None)
