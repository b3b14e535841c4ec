"""Follow a shell script to the program that it starts, with the variables that it sets; nothing is run.

What is followed: assignments and exports, ``cd``, the substitutions by which scripts find their own folder, ``exec``
and the last command. Anything that only a run could tell is said, with its line.
Source: POSIX, XCU 2.5, 2.6, 2.9.1, 2.14.
"""

import posixpath
import re
from collections.abc import Sequence
from contextlib import suppress
from itertools import product

import msgspec

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.script import Script
from fundamen.formats.unix.shell import ShellCommand, read_shell
from fundamen.formats.unix.shell_words import Piece, Quoting, Word
from fundamen.loaders.load_map import CandidateOutcome, LoadMap
from fundamen.loaders.search_path import find_on_path
from fundamen.loaders.starting import Load, Start, StartUnknownError, find_places, started_as, with_program
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SHELLS = {"sh", "dash", "bash", "ash", "ksh", "mksh", "zsh", "busybox"}
_MOST_WRAPPERS = 5  # that start one another
_MOST_VALUE = 1 << 16  # characters
_MOST_OPEN, _MOST_VALUES = 3, 6  # variables of one command that conditions decide about; values of each
_LEAD_ON = {"exec", "command", "nohup", "nice", "env", "setsid", "time", "ionice"}  # another command follows
_HEAD, _TAIL = re.compile(r"(\w+)%/\*"), re.compile(r"(\w+)##\*/")  # ${0%/*} and ${0##*/}
_NAME = re.compile(r"[A-Za-z_]\w*")
_SCRIPT_ITSELF = {"0", "BASH_SOURCE", "BASH_SOURCE[0]"}
_ARGUMENTS = {"@", "*", "1", "2", "3", "4", "5", "6", "7", "8", "9"}


def with_started(machine: Machine, loading: LoadMap, load: Load, under_way: tuple[MachinePath, ...] = ()) -> LoadMap:
    """A script's needs with those of the program that it starts; of any other program the same.

    Args:
        machine: on which it lies.
        loading: what the script's own interpreter needs.
        load: gives what any other program needs by itself.
        under_way: scripts that have led to this one.
    """
    script = loading.binary
    if not isinstance(script, Script) or not _is_of_shell(script):
        return loading
    if loading.program in under_way or len(under_way) >= _MOST_WRAPPERS:
        why = say("loaders.scripts-start-one-another-in-a")
        return msgspec.structs.replace(loading, not_followed=why)
    try:
        start = find_start(machine, loading.program)
        if start is None:
            return loading
        before = (*under_way, loading.program)

        def follow(machine: Machine, program: MachinePath) -> LoadMap:
            return with_started(machine, load(machine, program), load, before)

        return with_program(machine, loading, start, follow)
    except StartUnknownError as error:
        return msgspec.structs.replace(loading, not_followed=str(error))


def find_start(machine: Machine, path: MachinePath) -> Start | None:
    """The program that a script starts at its end; None where it does its work itself.

    Raises:
        StartUnknownError: it starts one, and only a run could tell which.
    """
    try:
        with machine.open(path) as source:
            script = read_shell(source)
    except UnreadableError as error:
        raise StartUnknownError(error.why) from error
    run = _Run(machine, path)
    starts: list[Start] = []
    unknown = ""
    commands = [command for command in script.commands if not command.is_inner]
    for command in commands:
        words = command.words
        if words and words[0].source == "exec" and len(words) > 1:
            try:
                starts += run.starts(command, words[1:])
            except StartUnknownError as error:
                unknown = unknown or str(error)
            if command.is_certain:
                break
        run.take(command)
    else:
        last = commands[-1] if commands else None
        if not starts and last is not None and last.is_certain and last.words and run.may_be_started(last.words[0]):
            starts += run.starts(last, last.words)
    if unknown:
        raise StartUnknownError(unknown)
    if not starts and script.problem:
        raise StartUnknownError(say("loaders.it-cannot-be-read-to-its", problem=script.problem))
    return _choose_start(machine, starts)


def _choose_start(machine: Machine, starts: Sequence[Start]) -> Start | None:
    """The one of some possible starts whose program is there, if they are of several. Raises: StartUnknownError."""
    if len({start.words[0] for start in starts}) <= 1:
        return starts[-1] if starts else None
    there = {place: start for start in starts if (place := _place_of(machine, start)) is not None}
    if len(there) != 1:
        names = " or ".join(dict.fromkeys(start.words[0] for start in starts))
        raise StartUnknownError(say("loaders.only-a-run-tells-which-program", names=names))
    return next(iter(there.values()))


def _place_of(machine: Machine, start: Start) -> MachinePath | None:
    """The real path of a program that may be started; None where it is not there."""
    with started_as(machine, start):
        candidates = find_places(machine, start)
    taken = next((each.path for each in candidates if each.outcome is CandidateOutcome.TAKEN), None)
    return machine.real(taken) if taken is not None else None


def _is_of_shell(script: Script) -> bool:
    name = script.looked_up or script.interpreter
    return not script.handed_over_to and posixpath.basename(name) in _SHELLS


class _Run:
    """Goes through a script's commands as far as they set what the program is started with."""

    def __init__(self, machine: Machine, path: MachinePath) -> None:
        self._machine, self._path = machine, path
        self._values: dict[str, str | None] = {}  # None where only a run tells
        self._possible: dict[str, list[str]] = {}  # what a condition decides between, as far as it is known
        self._unsure: set[str] = set()  # of these some value is not known at all
        self._exported: set[str] = set()
        self._folder: str | None = None

    def take(self, command: ShellCommand) -> None:
        """Take in a command that starts nothing."""
        name = command.words[0].source if command.words else ""
        if not command.words:
            for variable, word in command.assigned:
                self._assign(variable, self._value(word), is_certain=command.is_certain)
        elif name in {"export", "declare", "typeset", "readonly", "local"}:
            self._export(command)
        elif name == "unset":
            for word in command.words[1:]:
                self._assign(word.source, "", is_certain=command.is_certain)
        elif name == "cd" and command.is_certain:
            self._folder = self._absolute(self._value(command.words[-1])) if len(command.words) > 1 else None
        elif name == "cd":
            self._folder = None
        elif name in {".", "source", "eval"} and len(command.words) > 1:
            self._take_in(command)

    def starts(self, command: ShellCommand, words: Sequence[Word]) -> list[Start]:
        """Find all that a command may start, by what conditions have decided before. Raises: StartUnknownError."""
        pieces = (piece for word in (*words, *(word for _, word in command.assigned)) for piece in word.pieces)
        open_ = [p.text for p in pieces if p.how is Quoting.VARIABLE and self._is_open(p.text)]
        names = list(dict.fromkeys(open_))[:_MOST_OPEN]
        if not names:
            return [self.start(command, words)]
        found, before = [], self._values
        for values in product(*(self._possible[name] for name in names)):
            self._values = {**before, **dict(zip(names, values, strict=True))}
            with suppress(StartUnknownError):
                start = self.start(command, words)
                is_certain = start.how is Necessity.REQUIRED and self._unsure.isdisjoint(names)
                how = Necessity.REQUIRED if is_certain else Necessity.DELAYED
                found.append(msgspec.structs.replace(start, how=how))
        self._values = before
        if not found:
            shown = " ".join(word.source for word in words[:3])
            raise StartUnknownError(say("loaders.line-starts-which-only-a-run", line=command.line, shown=shown))
        return found

    def _is_open(self, name: str) -> bool:
        return self._values.get(name, "") is None and name in self._possible

    def start(self, command: ShellCommand, words: Sequence[Word]) -> Start:
        """Find what a command starts. Raises: StartUnknownError."""
        environment = {name: value for name in self._exported if (value := self._values.get(name)) is not None}
        for name, word in command.assigned:
            environment[name] = self._require_value(command, word)
        values = [self._value(word) for word in words]
        at = 0
        while at < len(values):
            value = values[at]
            if value is None:
                raise StartUnknownError(
                    say("loaders.line-starts-which-only-a-run", line=command.line, shown=words[at].source)
                )
            name, is_set, rest = value.partition("=")
            if at and is_set and _NAME.fullmatch(name):
                environment[name] = rest
            elif value.startswith("-") or (value in _LEAD_ON and at + 1 < len(values)):
                pass
            elif value:
                break
            at += 1
        program = [value or "" for value in values[at:]]
        if not program:
            raise StartUnknownError(say("loaders.line-starts-a-program-that-only", line=command.line))
        return Start(
            words=tuple(program),
            because=say("loaders.line-of-the-script", line=command.line),
            environment=environment,
            folder=self._folder,
            how=Necessity.REQUIRED if command.is_certain else Necessity.DELAYED,
        )

    def may_be_started(self, word: Word) -> bool:
        """Whether the last command of a script is a program for whose sake the script is there."""
        value = self._value(word)
        if value is None:
            return word.pieces[0].how is not Quoting.TEXT or "/" in word.source
        return "/" in value or value in _LEAD_ON

    def _require_value(self, command: ShellCommand, word: Word) -> str:
        value = self._value(word)
        if value is None:
            raise StartUnknownError(say("loaders.line-sets-which-only-a-run", line=command.line, source=word.source))
        return value

    def _export(self, command: ShellCommand) -> None:
        for word in command.words[1:]:
            name, is_set, _ = word.source.partition("=")
            if not _NAME.fullmatch(name):
                continue
            if command.words[0].source == "export":
                self._exported.add(name)
            if is_set:
                whole = self._value(word)
                value = whole.partition("=")[2] if whole is not None else None
                self._assign(name, value, is_certain=command.is_certain)

    def _assign(self, name: str, value: str | None, *, is_certain: bool) -> None:
        before = self._values.get(name, self._machine.environment.get(name, ""))
        if is_certain:
            self._possible.pop(name, None)
            self._unsure.discard(name)
        elif before != value:
            if value is None or (before is None and name not in self._possible):
                self._unsure.add(name)
            possible = self._possible.setdefault(name, [before] if before else [])
            if value is not None and value not in possible and len(possible) < _MOST_VALUES:
                possible.append(value)
            value = None  # a condition decides
        self._values[name] = value
        if name in self._machine.environment or name.startswith("LD_") or name == "PATH":
            self._exported.add(name)

    def _take_in(self, command: ShellCommand) -> None:
        """Take in a file that is read as a part of the script; what cannot be read leaves all as it was."""
        file = self._absolute(self._value(command.words[1]))
        if command.words[0].source == "eval" or file is None:
            return
        try:
            with self._machine.open(MachinePath(file)) as source:
                inner = read_shell(source)
        except UnreadableError:
            return
        for each in inner.commands:
            if not each.is_inner and not (each.words and each.words[0].source in {".", "source", "exec"}):
                self.take(msgspec.structs.replace(each, is_certain=each.is_certain and command.is_certain))

    def _absolute(self, path: str | None) -> str | None:
        """An absolute path; None where the folder that it counts from is not known."""
        if path is None or path.startswith("/"):
            return posixpath.normpath(path) if path else None
        return posixpath.normpath(posixpath.join(self._folder, path)) if self._folder is not None else None

    def _value(self, word: Word) -> str | None:
        """A word as the shell would expand it; None where only a run tells."""
        parts: list[str] = []
        for piece in word.pieces:
            part = self._part(piece)
            if part is None or sum(map(len, parts)) > _MOST_VALUE:
                return None
            parts.append(part)
        return "".join(parts)

    def _part(self, piece: Piece) -> str | None:
        match piece.how:
            case Quoting.TEXT:
                return piece.text
            case Quoting.VARIABLE:
                value = self._variable(piece.text)
                return piece.otherwise if not value and piece.otherwise is not None else value
            case Quoting.COMMAND:
                return self._output(piece.text)
        for pattern, cut in ((_HEAD, posixpath.dirname), (_TAIL, posixpath.basename)):
            if found := pattern.fullmatch(piece.text):
                value = self._variable(found[1])
                return cut(value) if value is not None else None
        return self._path if piece.text in _SCRIPT_ITSELF else None

    def _variable(self, name: str) -> str | None:
        if name in _SCRIPT_ITSELF:
            return self._path
        if name in _ARGUMENTS:
            return ""
        if name == "PWD":
            return self._folder
        return self._values[name] if name in self._values else self._machine.environment.get(name, "")

    def _output(self, text: str) -> str | None:
        """Find the output of a command by which a script finds its own folder; None for any other."""
        folder, printed = self._folder, None
        for command in read_shell(MemoryBytes(text.encode("utf-8", "surrogateescape"), "it")).commands:
            if command.is_inner:
                continue
            values = [self._value(word) for word in command.words if not word.source.startswith("-")]
            if not values or None in values:
                self._folder = folder
                return None
            printed = self._output_of([value for value in values if value is not None])
        self._folder = folder
        return printed

    def _output_of(self, words: list[str]) -> str | None:
        argument = words[1] if len(words) > 1 else ""
        printed: str | None = None
        match words[0]:
            case "dirname":
                printed = posixpath.dirname(argument) or "."
            case "basename":
                printed = posixpath.basename(argument.rstrip("/")).removesuffix("".join(words[2:]) or "\0")
            case "readlink" | "realpath":
                whole = self._absolute(argument)
                printed = self._machine.real(MachinePath(whole)) if whole is not None else None
            case "cd":
                self._folder, printed = self._absolute(argument), ""
            case "pwd":
                printed = self._folder
            case "command" | "which" | "type":
                found = (c.path for c in find_on_path(self._machine, words[-1]) if c.outcome is CandidateOutcome.TAKEN)
                printed = next(found, "")
            case "echo":
                printed = " ".join(words[1:])
        return printed
