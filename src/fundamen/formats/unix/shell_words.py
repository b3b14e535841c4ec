"""Part a shell script into words and operators. Source: POSIX, XCU 2.2 (quoting), 2.3 (tokens), 2.6 (expansions)."""

import re
from collections.abc import Iterator
from enum import StrEnum

import msgspec

from fundamen.messages import say

_DEEPEST = 40
REDIRECTIONS = ("<<<", "<<-", "<<", ">>", "<&", ">&", "<>", ">|", "<", ">")
_OPERATORS = (*REDIRECTIONS, "&&", "||", ";;", "\n", ";", "&", "|", "(", ")")
AFTER_WHICH_A_COMMAND = frozenset({"if", "then", "elif", "else", "while", "until", "do", "!", "{", "time"})
_PARAMETER = re.compile(r"[A-Za-z_][A-Za-z0-9_]*|[0-9@*#?$!-]")
_DEFAULT = re.compile(r"([A-Za-z_][A-Za-z0-9_]*)(:?[-=?+])?(.*)", re.DOTALL)


class Quoting(StrEnum):
    """Ways in which a piece of a word is written."""

    TEXT = "text"
    VARIABLE = "variable"  # its value, or what stands behind :- where it has none
    COMMAND = "command"  # what a command prints
    UNKNOWN = "unknown"  # anything else that only a run tells


class Piece(msgspec.Struct, frozen=True):
    """One piece of a word."""

    how: Quoting
    text: str  # the text; the variable's name; the command
    otherwise: str | None = None  # of a variable: the text that counts where it is not set
    is_quoted: bool = False


class Word(msgspec.Struct, frozen=True):
    """One word."""

    pieces: tuple[Piece, ...]
    source: str  # as it is written

    @property
    def literal(self) -> str | None:
        """The word, where it is nothing but text."""
        texts = [piece.text for piece in self.pieces if piece.how is Quoting.TEXT]
        return "".join(texts) if len(texts) == len(self.pieces) else None


class UnreadShellError(Exception):
    """A script cannot be read on; it never leaves the readers of scripts."""


class Token(msgspec.Struct, frozen=True):
    """A word, or an operator."""

    word: Word | None  # None for an operator
    operator: str
    line: int


class Lexer:
    """Gives the tokens of a text. Source: XCU 2.3."""

    def __init__(self, text: str, line: int = 1, depth: int = 0) -> None:
        self._text = text
        self._at = 0
        self._line = line
        self._depth = depth
        self._waiting: list[tuple[str, bool]] = []  # here-documents whose text begins behind this line
        if depth > _DEEPEST:
            raise UnreadShellError(say("formats.commands-in-commands-are-more-than", deepest=_DEEPEST))

    def tokens(self) -> Iterator[Token]:
        """All tokens."""
        while self._at < len(self._text):
            char = self._text[self._at]
            if char in " \t\r":
                self._at += 1
            elif self._text.startswith("\\\n", self._at):
                self._at, self._line = self._at + 2, self._line + 1
            elif char == "#":
                end = self._text.find("\n", self._at)
                self._at = len(self._text) if end < 0 else end
            elif operator := next((each for each in _OPERATORS if self._text.startswith(each, self._at)), ""):
                line = self._line
                self._at += len(operator)
                if operator == "\n":
                    self._line += 1
                    self._skip_documents()
                yield Token(None, operator, line)
                if operator in {"<<", "<<-"}:
                    yield from self._document(strips=operator == "<<-")
            else:
                yield Token(self._word(), "", self._line)

    def _document(self, *, strips: bool) -> Iterator[Token]:
        """The word that ends a here-document."""
        while self._peek() in {" ", "\t"}:
            self._at += 1
        word = self._word()
        self._waiting.append(("".join(piece.text for piece in word.pieces), strips))
        yield Token(word, "", self._line)

    def _skip_documents(self) -> None:
        for delimiter, strips in self._waiting:
            while self._at < len(self._text):
                end = self._text.find("\n", self._at)
                end = len(self._text) if end < 0 else end
                line = self._text[self._at : end]
                self._at, self._line = min(end + 1, len(self._text)), self._line + 1
                if (line.lstrip("\t") if strips else line) == delimiter:
                    break
        self._waiting = []

    def _peek(self) -> str:
        return self._text[self._at : self._at + 1]

    def _word(self) -> Word:
        begin, pieces = self._at, list[Piece]()
        while self._at < len(self._text):
            char = self._text[self._at]
            if char in " \t\r\n;&|()<>":
                break
            if char == "'":
                end = self._find("'", self._at + 1, say("formats.a-quotation-mark"))
                pieces.append(Piece(Quoting.TEXT, self._text[self._at + 1 : end], is_quoted=True))
                self._advance(end + 1)
            elif char == '"':
                self._at += 1
                pieces += self._read_quoted()
            elif char == "\\":
                pieces.append(
                    Piece(Quoting.TEXT, self._text[self._at + 1 : self._at + 2].replace("\n", ""), is_quoted=True)
                )
                self._advance(self._at + 2)
            elif char in "$`":
                pieces.append(self._expansion(is_quoted=False))
            else:
                pieces.append(Piece(Quoting.TEXT, char))
                self._at += 1
        if self._at == begin:
            raise UnreadShellError(say("formats.line-cannot-be-read-on", line=self._line))
        return Word(_join_pieces(pieces), " ".join(self._text[begin : self._at].split()))

    def _read_quoted(self) -> Iterator[Piece]:
        """The text between double quotation marks. Source: XCU 2.2.3."""
        yield Piece(Quoting.TEXT, "", is_quoted=True)
        while True:
            char = self._peek()
            if not char:
                raise UnreadShellError(say("formats.line-a-quotation-mark-is-not", line=self._line))
            if char == '"':
                self._at += 1
                return
            if char == "\\" and self._text[self._at + 1 : self._at + 2] in {"$", "`", '"', "\\", "\n"}:
                yield Piece(Quoting.TEXT, self._text[self._at + 1].replace("\n", ""), is_quoted=True)
                self._advance(self._at + 2)
            elif char in "$`":
                yield self._expansion(is_quoted=True)
            else:
                yield Piece(Quoting.TEXT, char, is_quoted=True)
                self._advance(self._at + 1)

    def _expansion(self, *, is_quoted: bool) -> Piece:
        """An expansion: it begins with a dollar sign or a backquote. Source: XCU 2.6."""
        text, at = self._text, self._at
        if text[at] == "`":
            end = self._find("`", at + 1, "a backquote")
            return self._read_substituted(text[at + 1 : end].replace("\\`", "`"), end + 1, is_quoted=is_quoted)
        if text.startswith("$((", at):
            self._advance(self._find_matching(at + 1, "(", ")", "a parenthesis"))
            return Piece(Quoting.UNKNOWN, "", is_quoted=is_quoted)
        if text.startswith("$(", at):
            end = self._find_closing(at + 1)
            return self._read_substituted(text[at + 2 : end - 1], end, is_quoted=is_quoted)
        if text.startswith("${", at):
            end = self._brace(at + 2)
            inner = text[at + 2 : end - 1]
            self._advance(end)
            return _parameter(inner, is_quoted=is_quoted)
        named = _PARAMETER.match(text, at + 1)
        if named is None:
            self._at += 1
            return Piece(Quoting.TEXT, "$", is_quoted=is_quoted)
        self._at = named.end()
        return Piece(Quoting.VARIABLE, named[0], None, is_quoted)

    def _read_substituted(self, inner: str, end: int, *, is_quoted: bool) -> Piece:
        self._advance(end)
        return Piece(Quoting.COMMAND, inner, is_quoted=is_quoted)

    def _find_closing(self, at: int) -> int:
        """Behind the parenthesis that closes the one at a place, as the commands between them are read."""
        inner = Lexer(self._text, self._line, self._depth + 1)
        inner._at = at + 1
        nesting = _Nesting()
        for token in inner.tokens():
            if nesting.ends_with(token):
                return inner._at
        raise UnreadShellError(say("formats.line-a-parenthesis-is-not-closed", line=self._line))

    def _brace(self, at: int) -> int:
        return self._find_matching(at - 1, "{", "}", "a brace")

    def _find_matching(self, at: int, opening: str, closing: str, what: str) -> int:
        depth, text = 0, self._text
        while at < len(text):
            char = text[at]
            if char == "\\":
                at += 1
            elif char == "'" and not (closing == "}" and depth):
                at = self._find("'", at + 1, say("formats.a-quotation-mark"))
            elif char == '"':
                at = self._end_of_quoted(at + 1) - 1
            elif char == opening:
                depth += 1
            elif char == closing:
                depth -= 1
                if not depth:
                    return at + 1
            at += 1
        raise UnreadShellError(say("formats.line-is-not-closed", line=self._line, what=what))

    def _end_of_quoted(self, at: int) -> int:
        text = self._text
        while at < len(text):
            if text[at] == "\\":
                at += 1
            elif text[at] == '"':
                return at + 1
            elif text.startswith("$(", at):
                at = self._find_closing(at + 1) - 1
            at += 1
        raise UnreadShellError(say("formats.line-a-quotation-mark-is-not", line=self._line))

    def _find(self, mark: str, at: int, what: str) -> int:
        end = self._text.find(mark, at)
        while mark == "`" and end > 0 and self._text[end - 1] == "\\":
            end = self._text.find(mark, end + 1)
        if end < 0:
            raise UnreadShellError(say("formats.line-is-not-closed", line=self._line, what=what))
        return end

    def _advance(self, to: int) -> None:
        self._line += self._text.count("\n", self._at, to)
        self._at = to


class _Nesting:
    """Minds which parenthesis ends a command substitution: the patterns of a ``case`` have some of their own."""

    def __init__(self) -> None:
        self._open: list[str] = []  # "(", or of a case what is read of it: "case", "pattern", "body"
        self._is_command_next = True

    def ends_with(self, token: Token) -> bool:
        """Whether this token is the parenthesis that closes the first one."""
        last = self._open[-1] if self._open else ""
        if token.word is not None:
            self._word(token.word.source, last)
            return False
        match token.operator, last:
            case "(", "pattern":
                pass
            case "(", _:
                self._open.append("(")
            case ")", "":
                return True
            case ")", "pattern":
                self._open[-1] = "body"
            case ")", "(":
                self._open.pop()
            case ";;", "body":
                self._open[-1] = "pattern"
        self._is_command_next = token.operator not in REDIRECTIONS
        return False

    def _word(self, name: str, last: str) -> None:
        if name == "case" and self._is_command_next:
            self._open.append("case")
        elif name == "in" and last == "case":
            self._open[-1] = "pattern"
        elif name == "esac" and (last == "pattern" or (last == "body" and self._is_command_next)):
            self._open.pop()
        self._is_command_next = name in AFTER_WHICH_A_COMMAND


def _parameter(inner: str, *, is_quoted: bool) -> Piece:
    """The text between the braces of ``${}``. Source: XCU 2.6.2."""
    found = _DEFAULT.fullmatch(inner)
    if found is None or (found[3] and not found[2]):
        return Piece(Quoting.UNKNOWN, inner, is_quoted=is_quoted)
    if found[2] in {":-", "-", ":=", "="}:
        plain = found[3] if not set(found[3]) & set("$`\"'\\") else None
        return Piece(Quoting.VARIABLE, found[1], plain, is_quoted)
    return Piece(Quoting.VARIABLE if not found[2] else Quoting.UNKNOWN, found[1], None, is_quoted)


def _join_pieces(pieces: list[Piece]) -> tuple[Piece, ...]:
    """The same with texts that follow on one another put together."""
    joined: list[Piece] = []
    for piece in pieces:
        last = joined[-1] if joined else None
        if last is not None and piece.how is last.how is Quoting.TEXT and piece.is_quoted == last.is_quoted:
            joined[-1] = Piece(Quoting.TEXT, last.text + piece.text, None, piece.is_quoted)
        else:
            joined.append(piece)
    return tuple(joined)
