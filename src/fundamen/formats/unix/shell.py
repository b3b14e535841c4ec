"""Read a shell script into its commands, carrying none of them out: words, what is quoted, where each stands.

What is behind a script's last line, as in installers that carry their files with them, is no part of it. Source: POSIX,
XCU 2.2 (quoting), 2.3 (token recognition), 2.4 (reserved words), 2.6.2 (parameter expansion), 2.7.4 (here-documents),
2.9 (commands), 2.10 (grammar); of other shells only ``[[`` and ``source``.
"""

import re
from collections.abc import Iterable

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.unix.shell_words import (
    AFTER_WHICH_A_COMMAND,
    REDIRECTIONS,
    Lexer,
    Piece,
    Quoting,
    Token,
    UnreadShellError,
    Word,
)
from fundamen.messages import UNSAID, Message, as_said, say

_MOST_BYTES = 4 << 20
_FIRST_OF_ASCII, _LAST_OF_ASCII = 0x20, 0x7E  # that are shown
_MOST_COMMANDS = 50_000
_ASSIGNING = frozenset({"read", "getopts", "export", "readonly", "local", "unset", "declare", "typeset"})

_CLOSING = {"fi", "done", "esac", "}"}
_ASSIGNMENT = re.compile(r"([A-Za-z_][A-Za-z0-9_]*)\+?=")


class ShellCommand(msgspec.Struct, frozen=True):
    """One simple command."""

    words: tuple[Word, ...]  # its name first
    assigned: tuple[tuple[str, Word], ...]  # NAME=VALUE in front of it, or alone
    line: int  # counted from 1
    is_certain: bool  # whether nothing before it decides if it is run, but that the script comes so far
    negated: bool = False  # behind "!"
    is_inner: bool = False  # its output is a part of another command's words

    @property
    def source(self) -> str:
        """The command as it is written, on one line."""
        return " ".join([*(f"{name}={word.source}" for name, word in self.assigned), *(w.source for w in self.words)])


class Choice(msgspec.Struct, frozen=True):
    """A ``case``: what is compared, and with which patterns, in their order."""

    subject: Word
    patterns: tuple[tuple[str, ...], ...]  # of each branch
    line: int
    is_certain: bool


class ShellScript(msgspec.Struct, frozen=True):
    """All that a script says."""

    commands: tuple[ShellCommand, ...]
    choices: tuple[Choice, ...]
    functions: frozenset[str]
    variables: frozenset[str]  # that get values otherwise than by NAME=VALUE: of loops, of what is read or exported
    problem: Message = UNSAID  # why it is not read to its end


def read_shell(source: ByteSource) -> ShellScript:
    """Read a script; what cannot be read is reported as a problem, with all that comes before it."""
    end = end_of_text(source)
    lines = source.read_at(0, end).splitlines(keepends=True)
    reader = _Reader("".join(_decode_line(line) for line in lines))
    problem = UNSAID
    try:
        reader.read()
    except (UnreadShellError, RecursionError) as error:
        problem = as_said(error.args[0])
    return ShellScript(
        tuple(reader.commands), tuple(reader.choices), frozenset(reader.functions), frozenset(reader.variables), problem
    )


def end_of_text(source: ByteSource) -> int:
    """Where a script's text ends, in bytes: before the first line that no text has."""
    data = source.read_at(0, _MOST_BYTES)
    zero = data.find(b"\0")
    end = data.rfind(b"\n", 0, zero) + 1 if zero >= 0 else len(data)
    size = 0
    for line in data[:end].splitlines(keepends=True):
        strange = sum(byte > _LAST_OF_ASCII or byte < _FIRST_OF_ASCII for byte in line.strip(b"\t\r\n\f"))
        if size and strange * 4 > len(line) and not _is_text(line):
            break
        size += len(line)
    return size


def _is_text(line: bytes) -> bool:
    try:
        return line.decode("utf-8").strip().isprintable()
    except UnicodeDecodeError:
        return False


def _decode_line(line: bytes) -> str:
    try:
        return line.decode("utf-8")
    except UnicodeDecodeError:
        return line.decode("latin-1")


class _Reader:
    """Gathers the commands, with whether anything decides if they are run. Source: XCU 2.10."""

    def __init__(self, text: str, line: int = 1, depth: int = 0, nested: int = 0) -> None:
        self._lexer = Lexer(text, line, depth)
        self._depth = depth
        self._nested = nested  # how many conditions are around this
        self.commands: list[ShellCommand] = []
        self.choices: list[Choice] = []
        self.functions: set[str] = set()
        self.variables: set[str] = set()
        self._clear()
        self._open: list[str] = []  # the compound commands that are open
        self._skippable: list[bool] = []  # of each of these, whether it stands behind && or ||
        self._may_be_skipped = False  # behind && or ||

    def _clear(self) -> None:
        self._words: list[Word] = []
        self._assigned: list[tuple[str, Word]] = []
        self._line = 0
        self._negated = False

    def read(self) -> None:
        """Read all of it."""
        tokens = list(self._lexer.tokens())
        at = 0
        while at < len(tokens):
            at = self._take(tokens, at)
        self._finish()

    def _take(self, tokens: list[Token], at: int) -> int:
        """Take one token in, and give the place of the next."""
        token = tokens[at]
        if token.word is None:
            return self._operator(tokens, at)
        name = token.word.source
        if not self._words and not self._assigned:
            if name == "case":
                return self._case(tokens, at)
            if name == "for":
                return self._for(tokens, at)
            if name in AFTER_WHICH_A_COMMAND or name in _CLOSING:
                self._refuse_reserved(name)
                return at + 1
            if name == "function" and at + 1 < len(tokens) and tokens[at + 1].word is not None:
                self.functions.add(tokens[at + 1].word.source)  # type: ignore[union-attr]
                return at + 2
        self._line = self._line or token.line
        assignment = _ASSIGNMENT.match(name)
        if assignment is not None and not self._words:
            self._assigned.append((assignment[1], _without(token.word, assignment[0])))
        else:
            self._words.append(token.word)
        return at + 1

    def _operator(self, tokens: list[Token], at: int) -> int:
        operator = tokens[at].operator
        if operator in REDIRECTIONS:
            if self._words and self._words[-1].source.isdecimal() and len(self._words) > 1:
                self._words.pop()  # the number of what is redirected
            return at + 2
        if operator == "(" and len(self._words) == 1 and at + 1 < len(tokens) and tokens[at + 1].operator == ")":
            self.functions.add(self._words[0].source)
            self._clear()
            self._begin("function")
            return at + 2
        self._finish()
        if operator == "(":
            self._begin("(")
        elif operator == ")" and self._open:
            self._close()
        if operator in {"&&", "||"}:
            self._may_be_skipped = True
        elif operator in {"\n", ";", "&", ";;"}:
            self._may_be_skipped = False
        return at + 1

    def _refuse_reserved(self, name: str) -> None:
        if name == "!":
            self._negated = True
        elif name in {"if", "while", "until"}:
            self._begin(f"{name}?")  # its own condition is run for certain
        elif name in {"then", "elif", "else", "do"} and self._open:
            self._open[-1] = name
        elif name == "{":
            if not (self._open and self._open[-1] == "function"):
                self._begin("{")
            else:
                self._open[-1] = "function{"
        elif name in _CLOSING:
            self._close()

    def _begin(self, name: str) -> None:
        self._open.append(name)
        self._skippable.append(self._may_be_skipped)

    def _close(self) -> None:
        if self._open:
            self._open.pop()
            self._skippable.pop()

    def _for(self, tokens: list[Token], at: int) -> int:
        """Pass over the words of a loop; its body is behind ``do``."""
        self._begin("for?")
        if at + 1 < len(tokens) and (name := tokens[at + 1].word) is not None:
            self.variables.add(name.source)
        while at < len(tokens) and tokens[at].operator not in {";", "\n"}:
            at += 1
        return at

    def _case(self, tokens: list[Token], at: int) -> int:
        """Read the branches of a ``case``, each as commands that something decides about."""
        line, subject = tokens[at].line, tokens[at + 1].word if at + 1 < len(tokens) else None
        at += 2
        while at < len(tokens) and (tokens[at].word is None or tokens[at].word.source != "in"):  # type: ignore[union-attr]
            at += 1
        at += 1
        patterns: list[tuple[str, ...]] = []
        is_certain = self._is_certain()
        if subject is not None:
            self._add_inner([subject], line)
        self._begin("case")
        while at < len(tokens):
            if (word := tokens[at].word) is not None and word.source == "esac" and not self._words:
                break
            if tokens[at].operator in {"\n", ";", ";;"}:
                at += 1
                continue
            at, own = _patterns(tokens, at)
            patterns.append(own)
            depth = len(self._open)
            while at < len(tokens) and not (tokens[at].operator == ";;" and len(self._open) == depth):
                inner = tokens[at].word
                if inner is not None and inner.source == "esac" and len(self._open) == depth and not self._words:
                    break
                at = self._take(tokens, at)
            self._finish()
        self._close()
        if subject is not None:
            self.choices.append(Choice(subject, tuple(patterns), line, is_certain))
        return at + 1

    def _is_certain(self) -> bool:
        deciding = [each for each in self._open if not each.endswith("?") and each not in {"(", "{"}]
        return not (self._nested or deciding or self._may_be_skipped or any(self._skippable))

    def _finish(self) -> None:
        """A simple command ends here."""
        if self._words or self._assigned:
            if len(self.commands) >= _MOST_COMMANDS:
                raise UnreadShellError(say("formats.it-has-more-than-commands", most_commands=_MOST_COMMANDS))
            if self._words and self._words[0].source in _ASSIGNING:
                self.variables.update(word.source.partition("=")[0] for word in self._words[1:])
            self._add_inner([*self._words, *(word for _, word in self._assigned)], self._line)
            self.commands.append(
                ShellCommand(tuple(self._words), tuple(self._assigned), self._line, self._is_certain(), self._negated)
            )
        if self._open and self._open[-1] == "function" and self._words:
            self._close()
        self._clear()

    def _add_inner(self, words: Iterable[Word], line: int) -> None:
        """The commands whose output words take up: they are run before what the words are of."""
        for text in (piece.text for word in words for piece in word.pieces if piece.how is Quoting.COMMAND):
            inner = _Reader(text, line, self._depth + 1, self._nested + (not self._is_certain()))
            inner.read()
            self.commands += (msgspec.structs.replace(each, is_inner=True) for each in inner.commands)
            self.choices += inner.choices
            self.variables |= inner.variables


def _patterns(tokens: list[Token], at: int) -> tuple[int, tuple[str, ...]]:
    """Behind the parenthesis that ends the patterns of a branch; and the patterns."""
    found: list[str] = []
    while at < len(tokens) and tokens[at].operator != ")":
        word = tokens[at].word
        if word is not None:
            found.append("".join(p.text if p.how is Quoting.TEXT else "*" for p in word.pieces))
        at += 1
    return at + 1, tuple(found)


def _without(word: Word, beginning: str) -> Word:
    """A word without what it begins with, which is plain text."""
    first, *rest = word.pieces
    left = first.text[len(beginning) :]
    pieces = (Piece(Quoting.TEXT, left, None, first.is_quoted), *rest) if left or not rest else tuple(rest)
    return Word(pieces, word.source[len(beginning) :])
