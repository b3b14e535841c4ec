"""Read what compilers, linkers and make say when a build fails: what could not be found, and in which step.

The messages are those of GCC, Clang, GNU ld, gold, LLVM's linkers, mold, Apple's ld, Microsoft's tools, make and ninja,
in English, as each project's own sources word them.
"""

import posixpath
import re
import shlex
from enum import StrEnum

import msgspec

_MOST_FINDINGS = 2000
_LONGEST_LINE = 8_000  # characters of a message; a command may be longer
_MOST_COMMANDS = 5000


class BuildSaying(StrEnum):
    """One message of a log."""

    NO_LIBRARY = "no library"
    NO_FILE = "no file"
    NO_HEADER = "no header"
    NO_SYMBOL = "no symbol"
    NO_TOOL = "no tool"
    NO_RULE = "no rule"
    TARGET_FAILED = "target failed"
    SKIPPED = "skipped"
    NOT_ON_LINE = "not on the line"


class BuildMessage(msgspec.Struct, frozen=True):
    """One thing that a log says."""

    says: BuildSaying
    name: str  # the library without -l, the file, header, symbol, tool, or target
    asked_by: str = ""  # the source or object file, the makefile, or the target that needs it
    line: int = 0  # of the log, from 1
    command: int = -1  # the number of the last command before it; -1 where the log shows none


class BuildCommand(msgspec.Struct, frozen=True):
    """A compiler's or linker's command line in a log."""

    words: tuple[str, ...]
    folder: str  # that it was run in, as far as the log says; empty where it does not
    line: int


class BuildLog(msgspec.Struct, frozen=True):
    """The messages of a failing build."""

    messages: tuple[BuildMessage, ...]
    commands: tuple[BuildCommand, ...]


_TOOL = (
    r"(?:[\w.+-]+-)?(?:gcc|g\+\+|cc|c\+\+|clang|clang\+\+|ld|ld\.(?:bfd|gold|lld)|gfortran|ld64\.lld|mold)"
    r"(?:-\d+(?:\.\d+)*)?"
)
_IS_TOOL = re.compile(rf"(?:\S*/)?{_TOOL}$")
_MIGHT_BE_COMMAND = re.compile(rf"(?:^|[\s/'\"]){_TOOL}\s")
_PREFIXES = {"ccache", "distcc", "libtool:", "link:", "compile:", "+", "env", "time", "nice"}
_ENDS = {"&&", "||", ";", "|", ">", "2>&1"}

_NAME = r"'?(?P<name>[^\s:']+)'?"
_PLACE = r"(?:^|\s)(?P<by>[^\s:]+):\d+(?::\d+)?"
_MESSAGES: tuple[tuple[BuildSaying, re.Pattern[str]], ...] = tuple(
    (says, re.compile(pattern))
    for says, pattern in (
        (BuildSaying.SKIPPED, r"skipping incompatible (?P<name>\S+) when searching for -l(?P<by>\S+)"),
        (BuildSaying.NO_LIBRARY, r"cannot find -l(?P<name>:?[^\s:]+)"),
        (BuildSaying.NO_LIBRARY, r"unable to find library -l(?P<name>:?\S+)"),
        (BuildSaying.NO_LIBRARY, r"library not found(?: for -l|: )(?P<name>\S+)"),
        (BuildSaying.NO_LIBRARY, r"ld: library '(?P<name>[^']+)' not found"),
        (BuildSaying.NO_FILE, r"LNK1104: cannot open file '(?P<name>[^']+)'"),
        (BuildSaying.NO_FILE, r"(?:ld\S*: |ld\S*: error: )cannot (?:find|open) (?P<name>[^\s:]+)(?::|$)"),
        (
            BuildSaying.NO_FILE,
            rf"(?:\+\+|cc|clang)[\w.-]*: error: (?:no such file or directory: )?{_NAME}(?:: No such .*)?$",
        ),
        (BuildSaying.NO_HEADER, rf"{_PLACE}: (?:fatal )?error: {_NAME}(?:: No such file or directory| file not found)"),
        (BuildSaying.NO_HEADER, r"(?:^|\s)(?P<by>[^\s(]+)\(\d+\).*C1083: .*include file: '(?P<name>[^']+)'"),
        (BuildSaying.NOT_ON_LINE, r"ld\S*: (?P<name>\S+): error adding symbols: DSO missing from command line"),
        (BuildSaying.NO_SYMBOL, r"undefined reference to symbol '(?P<name>[^'@]+)"),
        (BuildSaying.NO_SYMBOL, "undefined reference to [`'\u2018\"](?P<name>.+?)['\u2019\"]$"),
        (BuildSaying.NO_SYMBOL, r"undefined symbol: (?P<name>.+)$"),
        (BuildSaying.NO_SYMBOL, r"LNK20(?:19|01): unresolved external symbol (?:\".*\" \()?(?P<name>[^\s)]+)"),
        (BuildSaying.NO_SYMBOL, r"^\s+\"(?P<name>[^\"]+)\", referenced from:"),
        (BuildSaying.NO_RULE, r"No rule to make target [`'](?P<name>[^']+)'(?:, needed by [`'](?P<by>[^']+)')?"),
        (BuildSaying.NO_TOOL, r"make\S*: (?P<name>[^\s:*]+): (?:No such file or directory|Command not found)"),
        (BuildSaying.NO_TOOL, r"(?:^|/)(?:sh|bash): (?:\d+: |line \d+: )?(?P<name>[^\s:]+): (?:command )?not found"),
        (BuildSaying.TARGET_FAILED, r"make\S*: \*\*\* \[(?:(?P<by>[^\]:]+):\d+: )?(?P<name>[^\]]+)\] Error \d+"),
        (BuildSaying.TARGET_FAILED, r"^FAILED: (?P<name>\S+)"),
        (BuildSaying.TARGET_FAILED, r"[Tt]arget '(?P<name>[^']+)' of makefile '(?P<by>[^']+)'"),
    )
)
_TELLTALE = re.compile(
    r"cannot|unable|not found|No such|undefined|unresolved|error|skipping|No rule|FAILED|arget|\*\*\*|ferenced"
)
_ASKER = re.compile(
    r"(?:^|ld\S*: )(?P<by>[^\s:(]+\.(?:o|obj|a|c|cc|cpp|cxx|lo)(?:\([^)]*\))?):(?:.*:)? (?:in function|undefined)"
)
_REFERENCED_BY = re.compile(r"^>>> referenced by (?P<by>\S+)")
_ENTERS = re.compile(r"(?:Entering|Leaving) directory [`'](?P<folder>[^']+)'")


def read_build_log(text: str) -> BuildLog:
    """Read a log; lines that say nothing of what is looked for are passed over."""
    reader = _Reader()
    for number, line in enumerate(_whole_lines(text), 1):
        if len(reader.messages) < _MOST_FINDINGS:
            reader.read(number, line)
    return BuildLog(tuple(dict.fromkeys(reader.messages)), tuple(reader.commands))


def read_command(line: str, folder: str = "", number: int = 0) -> BuildCommand | None:
    """The compiler's or linker's command in a line of a shell, or None where there is none."""
    try:
        words = shlex.split(line)
    except ValueError:  # quotes that do not match: no line that a shell would have run
        return None
    begin = next((index for index, word in enumerate(words) if _IS_TOOL.match(word)), None)
    if begin is None:
        return None
    before = words[:begin]
    entered = [words[index + 1] for index, word in enumerate(before) if word == "cd"]
    if not all(word in entered or _may_stand_before(word) for word in before):
        return None
    if entered:
        folder = posixpath.join(folder, entered[-1])
    end = next((index for index in range(begin, len(words)) if words[index] in _ENDS), None)
    return BuildCommand(tuple(word.rstrip(";") for word in words[begin:end]), folder, number)


def _may_stand_before(word: str) -> bool:
    """Whether a word may stand before a command: a prefix, a variable's setting, a step's number, a folder."""
    return word in _PREFIXES | {"cd", "&&"} or "=" in word or word.startswith(("[", "/", ".")) or word.endswith("]")


class _Reader:
    """Reads line by line, and remembers the folder, the last command and who was last said to ask."""

    def __init__(self) -> None:
        self.messages: list[BuildMessage] = []
        self.commands: list[BuildCommand] = []
        self._folder = ""
        self._asker = ""

    def read(self, number: int, line: str) -> None:
        if entered := _ENTERS.search(line):
            self._folder = entered["folder"]
            return
        if _MIGHT_BE_COMMAND.search(line) and " error" not in line and len(self.commands) < _MOST_COMMANDS:
            command = read_command(line, self._folder, number)
            if command is not None and len(command.words) > 1:
                self.commands.append(command)
                return
        if asker := _ASKER.search(line[:_LONGEST_LINE]):
            self._asker = asker["by"]
        if referenced := _REFERENCED_BY.search(line):  # LLVM's linker says it below the symbol
            self._name_asker(referenced["by"])
        if _TELLTALE.search(line):
            self._read_message(number, line[:_LONGEST_LINE])

    def _read_message(self, number: int, line: str) -> None:
        for says, pattern in _MESSAGES:
            found = pattern.search(line)
            if found:
                by = found.groupdict().get("by") or (self._asker if says is BuildSaying.NO_SYMBOL else "")
                self.messages.append(BuildMessage(says, found["name"], by, number, len(self.commands) - 1))
                return

    def _name_asker(self, asker: str) -> None:
        if self.messages and self.messages[-1].says is BuildSaying.NO_SYMBOL:
            self.messages[-1] = msgspec.structs.replace(self.messages[-1], asked_by=asker)


def _whole_lines(text: str) -> list[str]:
    """The lines, those that end in a backslash put together with what follows."""
    return text.replace("\r\n", "\n").replace("\\\n", " ").split("\n")
