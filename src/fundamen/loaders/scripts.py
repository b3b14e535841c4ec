"""How a script is started: its interpreter, that one's own needs, and what a Python environment depends on.

Source: execve(2), "Interpreter scripts"; env(1); Linux's fs/exec.c for how often one script may lead to another.
"""

from collections.abc import Callable

import msgspec

from fundamen.formats.unix.script import Script
from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap, Resolution
from fundamen.loaders.python_environment import find_environment
from fundamen.loaders.search_path import find_on_path, judge_runnable
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.binary import Necessity
from fundamen.model.display import printable
from fundamen.model.paths import MachinePath

_MOST_SCRIPTS = 5  # that lead to one another
_KIND = "interpreter"

Loader = Callable[[Machine, MachinePath], LoadMap]


def load_map(machine: Machine, program: MachinePath, script: Script, load: Loader) -> LoadMap:
    """Find all that a script needs to be started.

    Args:
        machine: where it would be started.
        program: the script.
        script: its first line.
        load: finds all that the interpreter needs, which is a program like any other.
    """
    return _Starting(machine, program, script, load).run()


class _Starting:
    def __init__(self, machine: Machine, program: MachinePath, script: Script, load: Loader) -> None:
        self._machine = machine
        self._load = load
        self._map = LoadMap(program, script, script.architecture, {}, ())

    def run(self) -> LoadMap:
        path, script = self._map.program, self._map.binary
        for _ in range(_MOST_SCRIPTS):
            assert isinstance(script, Script)  # noqa: S101 - the loop goes on only with one
            interpreter = self._interpreter_of(path, script)
            if interpreter is None:
                return self._map
            binary = self._machine.binary(interpreter)
            if not isinstance(binary, Script):
                self._add(self._load(self._machine, interpreter))
                return self._map
            self._map.loaded[interpreter] = binary
            path, script = interpreter, binary
        assert isinstance(script, Script)  # noqa: S101 - otherwise the loop has ended before
        detail = say("loaders.is-the-th-script-that-leads", most_scripts=_MOST_SCRIPTS + 1, most=_MOST_SCRIPTS)
        too_many = Candidate(path, CandidateOutcome.REFUSED, say("loaders.its-first-line"), detail)
        self._note(Resolution(script.interpreter, path, Necessity.REQUIRED, (too_many,), None, _KIND))
        return self._map

    def _interpreter_of(self, path: MachinePath, script: Script) -> MachinePath | None:
        """The program that carries a script out, after env or a shell that only hands it over; None where none does."""
        if not script.interpreter:
            return None
        found = self._resolve(
            path, script, script.interpreter, [self._at(script.interpreter, say("loaders.its-first-line"))]
        )
        if found is not None and script.handed_over_to:
            self._add_own(found)
            second = say("loaders.its-second-line")
            return self._resolve(path, script, script.handed_over_to, [self._at(script.handed_over_to, second)])
        if found is not None and script.looked_up and "/" not in script.looked_up:
            self._add_own(found)
            candidates = list(find_on_path(self._machine, script.looked_up))
            return self._resolve(path, script, script.looked_up, candidates)
        return found

    def _resolve(self, path: MachinePath, script: Script, name: str, candidates: list[Candidate]) -> MachinePath | None:
        first = next((index for index, c in enumerate(candidates) if c.outcome is CandidateOutcome.TAKEN), None)
        taken = candidates[first].path if first is not None else None
        considered = tuple(candidates if first is None else candidates[: first + 1])
        environment = find_environment(self._machine, path, MachinePath(name)) if name.startswith("/") else None
        decided = UNSAID
        if taken is None and script.ends_in_return and name.endswith("\r"):
            decided = say("loaders.the-first-line-ends-in-a", name=printable(name))
        elif taken is None and environment is not None:
            decided = environment.decided
        resolution = Resolution(name, path, Necessity.REQUIRED, considered, taken, _KIND, decided=decided)
        self._note(resolution, *([environment] if environment is not None and taken is not None else []))
        return taken

    def _at(self, name: str, because: Message) -> Candidate:
        path = MachinePath(name) if name.startswith("/") else self._machine.join("/", name)
        return judge_runnable(self._machine, path, because)

    def _add_own(self, path: MachinePath) -> None:
        """Count in what a program that only hands over needs itself."""
        if not isinstance(self._machine.binary(path), Script):
            self._add(self._load(self._machine, path))

    def _add(self, inner: LoadMap) -> None:
        joined = self._map.joined_with(inner)
        self._map = msgspec.structs.replace(joined, architecture=inner.architecture, runs_here=inner.runs_here)

    def _note(self, *resolutions: Resolution) -> None:
        self._map = msgspec.structs.replace(self._map, resolutions=(*self._map.resolutions, *resolutions))
