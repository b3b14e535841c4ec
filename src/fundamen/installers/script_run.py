"""Foresee what an installer that is a shell script will find on a machine, without carrying any of it out.

Which commands it calls and whether PATH has them; what it asks about files, commands and the processor, and what the
answer is here; which settings it reads. A command behind something that only a run decides is reported as one that it
may call. Source: POSIX, XCU 2.9.1 ("Command Search and Execution"), ``test``, ``command``, ``uname``; 2.14 and 1.6 for
what a shell does itself.
"""

import re
from collections.abc import Mapping
from contextlib import suppress
from fnmatch import fnmatchcase

import msgspec

from fundamen.evidence.debian_needs import MAY_CALL, READS, PackageNeed
from fundamen.formats.unix.shell import Choice, ShellCommand, ShellScript, read_shell
from fundamen.formats.unix.shell_words import Quoting, Word
from fundamen.installers.msi_run import Judged
from fundamen.loaders.architectures import own_architecture
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import places_on_path
from fundamen.messages import say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

# What a shell does itself, of which no program need be there.
_OWN = frozenset(
    """. : [ [[ alias bg break builtin cd command continue declare echo eval exec exit export false fg getopts hash jobs
    kill let local printf pwd read readonly return set shift shopt source test times trap true type typeset ulimit umask
    unalias unset wait""".split()  # noqa: SIM905 - as a list it would fill a page
)
_LEAD_ON = {"exec", "command", "sudo", "nohup", "nice", "time", "env", "doas"}  # another command follows
_ASKS_FOR_COMMAND = {"command", "type", "which", "hash"}
_SYSTEMS = {Platform.LINUX: "Linux", Platform.MACOS: "Darwin"}
_MACHINES = {Architecture.X86: "i686", Architecture.ARM: "armv7l"}  # as uname -m names what we name otherwise
_NAME = re.compile(r"[A-Za-z0-9_.+-]{1,100}|/[^\s*?$]{1,1000}")
_FILES = {"-e", "-f", "-d", "-x", "-s", "-r", "-w", "-L", "-h"}
_NUMBERS = {"-eq": "__eq__", "-ne": "__ne__", "-lt": "__lt__", "-le": "__le__", "-gt": "__gt__", "-ge": "__ge__"}
_MOST_CHECKS, _MOST_FILES = 500, 50


class ScriptRun(msgspec.Struct, frozen=True):
    """The forecast for a script."""

    needs: tuple[
        PackageNeed, ...
    ]  # commands; those that it may call only if something holds are of the field "may call"
    checks: tuple[Judged, ...]  # what it asks about, with the answer here
    settings: tuple[str, ...]  # files that it reads as a part of itself
    variables: tuple[str, ...]  # of the environment, that steer it


def foresee_script(machine: Machine, script: ShellScript) -> ScriptRun:
    """Foresee the commands, files and variables that a script will find on a machine."""
    run = _Run(machine, script)
    for command in script.commands:
        run.take(command)
    for choice in script.choices:
        run.choose(choice)
    return run.outcome()


class _Run:
    def __init__(self, machine: Machine, script: ShellScript) -> None:
        self._machine = machine
        self._script = script
        self._values = dict(_constants(script))
        self._taken_in: set[str] = set()
        self._called: dict[str, bool] = {}  # command -> whether it is called for certain
        self._checks: dict[tuple[int, str], Judged] = {}  # by line and what is asked
        self._resolving: list[str] = []  # variables whose own values are being worked out
        self._settings: dict[str, bool] = {}  # file -> whether it is read for certain
        self._read: dict[str, None] = {}  # variables
        self._assigned = _assigned_names(script)
        self._functions = set(script.functions)

    def outcome(self) -> ScriptRun:
        steering = [name for name in self._read if name not in self._assigned and name.isupper() and len(name) > 1]
        return ScriptRun(
            needs=(
                *(self._need(n, is_certain=sure) for n, sure in self._called.items() if n not in self._functions),
                *(
                    self._need_of_setting_file(file)
                    for file, is_certain in self._settings.items()
                    if is_certain and file[:1] == "/"
                ),
            ),
            checks=tuple(check for _, check in sorted(self._checks.items(), key=lambda each: each[0][0]))[
                :_MOST_CHECKS
            ],
            settings=tuple(self._settings),
            variables=tuple(steering),
        )

    def take(self, command: ShellCommand) -> None:
        for word in (*command.words, *(word for _, word in command.assigned)):
            self._read.update((piece.text, None) for piece in word.pieces if piece.how is Quoting.VARIABLE)
        words = list(command.words)
        while words:
            name = self._value(words[0])
            if name is None:
                return
            if name in {".", "source"} and len(words) > 1:
                file = self._value(words[1]) or words[1].source
                self._settings[file] = self._settings.get(file, False) or command.is_certain
                self._take_in(file)
            if name in {"test", "[", "[["}:
                self._check(command, holds=self._evaluate_test(words[1:] if name == "test" else words[1:-1]))
            if name in _ASKS_FOR_COMMAND and (asked := self._asked_for(name, words[1:])):
                self._check(command, holds=self._is_there(asked))
                return
            if name not in _OWN and name not in self._functions and _NAME.fullmatch(name):
                self._called[name] = self._called.get(name, False) or command.is_certain
            if name not in _LEAD_ON:
                return
            words = [word for word in words[1:] if not word.source.startswith("-") and "=" not in word.source]

    def _take_in(self, file: str) -> None:
        """Read the functions of a file that is part of the script: they are no commands that must be installed."""
        path = MachinePath(file)
        if not file.startswith("/") or file in self._taken_in or len(self._taken_in) >= _MOST_FILES:
            return
        self._taken_in.add(file)
        with suppress(UnreadableError), self._machine.open(path) as source:
            inner = read_shell(source)
            self._functions |= inner.functions
            self._assigned |= _assigned_names(inner)
            for name in _assigned_names(inner) & set(self._values):
                del self._values[name]
            for command in inner.commands:
                if len(command.words) > 1 and command.words[0].source in {".", "source"}:
                    self._take_in(command.words[1].literal or "")

    def choose(self, choice: Choice) -> None:
        """Which branch of a case is taken, where its subject is known."""
        value = self._value(choice.subject)
        if value is None:
            return
        taken = next((p for patterns in choice.patterns for p in patterns if fnmatchcase(value, p)), None)
        what = say("installers.line", line=choice.line)
        listed = " ".join("|".join(patterns) for patterns in choice.patterns)
        asked = ((choice.subject.source, value),)
        says = (
            say("installers.it-takes-the-branch", taken=taken)
            if taken is not None
            else say("installers.it-takes-no-branch")
        )
        self._checks[choice.line, ""] = Judged(
            what, say("installers.case-in", source=choice.subject.source, listed=listed), taken is not None, asked, says
        )

    def _need(self, name: str, *, is_certain: bool) -> PackageNeed:
        path = self._find_file(name)
        found = say("installers.it-is", path=path) if path is not None else say("installers.no-folder-of-path-has-it")
        return PackageNeed("calls" if is_certain else MAY_CALL, name, path is not None, found)

    def _need_of_setting_file(self, file: str) -> PackageNeed:
        """A file that is read as a part of the script: where it is not there, a shell ends the script."""
        is_there = self._machine.look(MachinePath(file)).kind is EntryKind.FILE
        return PackageNeed(
            READS,
            file,
            is_there,
            say("installers.it-is-there") if is_there else say("installers.there-is-no-such-file"),
        )

    def _find_file(self, name: str) -> MachinePath | None:
        machine = self._machine
        if name.startswith("/"):
            return MachinePath(name) if machine.look(MachinePath(name)).kind is EntryKind.FILE else None
        places = ((path, entry) for path, entry in places_on_path(machine, name) if "/" not in name)
        return next((path for path, e in places if e.kind is EntryKind.FILE and e.is_executable), None)

    def _is_there(self, name: str) -> bool:
        return name in _OWN or name in self._functions or self._find_file(name) is not None

    def _asked_for(self, name: str, words: list[Word]) -> str:
        """The command whose being there is asked about; empty where a command is run instead."""
        options = [word.source for word in words if word.source.startswith("-")]
        named = [value for word in words if not word.source.startswith("-") and (value := self._value(word))]
        asks = name != "command" or bool({"-v", "-V"} & set(options))
        return named[0] if asks and named else ""

    def _check(self, command: ShellCommand, *, holds: bool | None) -> None:
        what = say("installers.line", line=command.line)
        key = (command.line, command.source)
        held = holds if holds is None else holds is not command.negated
        asked = tuple(
            (piece.text, value)
            for word in command.words
            for piece in word.pieces
            if piece.how is Quoting.VARIABLE and (value := self._of_variable(piece.text, piece.otherwise)) is not None
        )
        self._checks[key] = Judged(what, ("! " if command.negated else "") + command.source, held, asked)

    def _evaluate_test(self, words: list[Word]) -> bool | None:  # noqa: PLR0911 - a table of what may be asked
        """The result of ``test``. Source: XCU, test, OPERANDS, by the number of arguments."""
        values = [self._value(word) for word in words]
        if values[:1] == ["!"] and len(values) > 1:
            inner = self._evaluate_test(words[1:])
            return None if inner is None else not inner
        match values:
            case []:
                return False
            case [one]:
                return None if one is None else bool(one)
            case [("-n" | "-z") as operator, one]:
                return None if one is None else bool(one) is (operator == "-n")
            case [operator, path] if operator in _FILES:
                return None if path is None else self._file(str(operator), path)
            case [left, "=" | "==", right]:
                return None if left is None or right is None else left == right
            case [left, "!=", right]:
                return None if left is None or right is None else left != right
            case [left, operator, right] if operator in _NUMBERS:
                return _compare_numbers(left, str(operator), right)
            case _:
                return None

    def _file(self, operator: str, path: str) -> bool | None:
        if not path.startswith("/") or operator in {"-w", "-L", "-h"}:
            return None if path else False
        entry = self._machine.look(MachinePath(path))
        if entry.kind is EntryKind.BLOCKED:
            return None
        is_there, is_file = entry.kind is not EntryKind.ABSENT, entry.kind is EntryKind.FILE
        answers = {
            "-f": is_file,
            "-d": entry.kind is EntryKind.FOLDER,
            "-s": is_there and (entry.size > 0 or not is_file),
            "-x": is_there and (entry.is_executable or not is_file),
        }
        return answers.get(operator, is_there)

    def _value(self, word: Word) -> str | None:
        """A word as the shell would have it; None where only a run tells."""
        parts: list[str] = []
        for piece in word.pieces:
            match piece.how:
                case Quoting.TEXT:
                    value: str | None = piece.text
                case Quoting.VARIABLE:
                    value = self._of_variable(piece.text, piece.otherwise)
                case Quoting.COMMAND:
                    value = self._output_of(piece.text)
                case _:
                    value = None
            if value is None or (not piece.is_quoted and piece.how is not Quoting.TEXT and len(value.split()) != 1):
                return None
            parts.append(value)
        return "".join(parts)

    def _of_variable(self, name: str, otherwise: str | None) -> str | None:
        if name in self._values and name not in self._resolving:
            self._resolving.append(name)
            value = self._value(self._values[name])
            self._resolving.pop()
            return value
        if name in self._assigned and name not in self._resolving:
            return None
        usual = "" if self._machine.is_live and name.isidentifier() else None  # of others the environment is not known
        value = self._machine.environment.get(name, usual)
        return value or otherwise if otherwise is not None else value

    def _output_of(self, command: str) -> str | None:
        """The output of a command that asks about the machine."""
        match command.split():
            case ["uname"] | ["uname", "-s"]:
                return _SYSTEMS.get(self._machine.platform)
            case ["uname", "-m"]:
                own = own_architecture(self._machine)
                if own is Architecture.AARCH64 and self._machine.platform is Platform.MACOS:
                    return "arm64"
                return _MACHINES.get(own, str(own)) if own is not None else None
            case ["command", "-v", name] if _NAME.fullmatch(name):
                path = self._find_file(name)
                return str(path) if path is not None else ""
            case _:
                return None


def _assigned_names(script: ShellScript) -> set[str]:
    """The variables that a script itself gives values."""
    return {name for command in script.commands for name, _ in command.assigned} | script.variables


def _constants(script: ShellScript) -> Mapping[str, Word]:
    """The variables that are given one value, for certain."""
    found: dict[str, Word] = {}
    several: set[str] = set()
    for command in script.commands:
        for name, word in command.assigned:
            is_own = any(
                piece.text == name for piece in word.pieces if piece.how is Quoting.VARIABLE and not piece.otherwise
            )
            if name in found or not command.is_certain or command.words or is_own:
                several.add(name)
            found[name] = word
    return {name: word for name, word in found.items() if name not in several | script.variables}


def _compare_numbers(left: str | None, operator: str, right: str | None) -> bool | None:
    if left is None or right is None or not (_is_whole(left) and _is_whole(right)):
        return None
    result: bool = getattr(int(left), _NUMBERS[operator])(int(right))
    return result


def _is_whole(text: str) -> bool:
    return re.fullmatch(r"\s*[+-]?\d{1,18}\s*", text) is not None
