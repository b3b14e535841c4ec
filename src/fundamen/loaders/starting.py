"""A program that a script, a unit or a job starts, and its needs behind those of what starts it."""

import posixpath
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import msgspec

from fundamen.loaders.load_map import STARTED, Candidate, CandidateOutcome, LoadMap, Resolution
from fundamen.loaders.search_path import find_on_path, judge_runnable
from fundamen.machine.access import Runner
from fundamen.machine.links import is_gone
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath


class Start(msgspec.Struct, frozen=True):
    """One start of a program."""

    words: tuple[str, ...]  # the program as it is named, and its arguments as far as they are known
    because: Message  # where it is named: a line of the script, a key of the unit
    environment: dict[str, str]  # what is set for it
    folder: str | None  # in which it is started; None where that is not known
    how: Necessity = Necessity.REQUIRED  # DELAYED where a condition decides if it is started
    inherits: bool = True  # whether the rest of the environment is that of the technician
    user: Runner | None = None  # None: the user who starts the script
    gives_up_with: Message = UNSAID  # how it shows that the program is not there; empty for the shell's own way


class StartUnknownError(Exception):
    """Only a run could tell what is started; it never leaves the callers of this module."""


Load = Callable[[Machine, MachinePath], LoadMap]  # gives what a program needs


def with_program(machine: Machine, loading: LoadMap, start: Start, load: Load) -> LoadMap:
    """The needs of what starts a program, and behind them those of the program.

    Args:
        machine: on which it is started.
        loading: what starts it.
        start: the program.
        load: gives what a program needs, with what it starts in its turn.

    Raises:
        StartUnknownError: its place or its needs are not known.
    """
    name = start.words[0]
    with started_as(machine, start):
        candidates = find_places(machine, start)
        if not candidates:
            raise StartUnknownError(say("loaders.starts-counted-from-the-folder", because=start.because, name=name))
        taken = next((each.path for each in candidates if each.outcome is CandidateOutcome.TAKEN), None)
        resolution = Resolution(
            name,
            loading.program,
            start.how,
            tuple(candidates),
            taken,
            STARTED,
            decided=say("loaders.there-is-no-such-file") if _is_gone(machine, candidates) else UNSAID,
            gives_up_with=start.gives_up_with,
        )
        loading = msgspec.structs.replace(loading, resolutions=(*loading.resolutions, resolution))
        if taken is None:
            return loading
        try:
            inner = load(machine, taken)
            if posixpath.basename(name) == "java" and "-jar" in start.words[:-1]:
                inner = _merge(inner, load(machine, _jar_of(start)))
        except UnreadableError as error:
            raise StartUnknownError(
                say("loaders.starts-which-cannot-be-traced", because=start.because, taken=taken, why=error.why)
            ) from error
    return _merge(loading, inner)


def find_places(machine: Machine, start: Start) -> list[Candidate]:
    """The places of a program that is started; none where the folder is not known from which it is counted."""
    name = start.words[0]
    if "/" not in name:
        return list(find_on_path(machine, name))
    if name.startswith("/") or start.folder is not None:
        path = MachinePath(posixpath.normpath(posixpath.join(start.folder or "/", name)))
        return [judge_runnable(machine, path, start.because)]
    return []


def _is_gone(machine: Machine, candidates: list[Candidate]) -> bool:
    """Whether the one place of a program has nothing, not even a link that leads to nothing."""
    return len(candidates) == 1 and is_gone(machine, candidates[0].path)


@contextmanager
def started_as(machine: Machine, start: Start) -> Iterator[None]:
    """The machine with the variables and the user that the program is started with."""
    before, user = machine.environment, machine.run_as
    machine.environment = {**(before if start.inherits else {}), **start.environment}
    machine.run_as = user or start.user
    try:
        yield
    finally:
        machine.environment, machine.run_as = before, user


def _jar_of(start: Start) -> MachinePath:
    jar = start.words[start.words.index("-jar") + 1]
    return MachinePath(posixpath.join(start.folder or "/", jar))


def _merge(loading: LoadMap, inner: LoadMap) -> LoadMap:
    return msgspec.structs.replace(
        loading.joined_with(inner),
        runs_here=loading.runs_here or inner.runs_here,
        remarks=(*loading.remarks, *inner.remarks),
        not_followed=loading.not_followed or inner.not_followed,
    )
