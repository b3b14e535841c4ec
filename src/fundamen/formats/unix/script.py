"""Read the first line of a script: which interpreter it names, and how the kernel would call it.

Source: execve(2), "Interpreter scripts", and Linux's fs/binfmt_script.c for the length that counts.
"""

import re
import shlex

from fundamen.formats.byte_source import ByteSource
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, BinaryKind, Format, Need, Problem

MAGIC = b"#!"
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"  # of UTF-8, as some editors write it
_LONGEST_LINE = 255  # bytes that the kernel reads; a longer first line is cut there
_HEAD = 4096  # bytes that are read to see a second line too
# What Python's installers write where a path is too long or has blanks: the shell hands over to the interpreter.
_HANDED_OVER = re.compile(rb"""^'''exec' ("[^"\n]+"|[^ \n]+) "\$0" "\$@"$""", re.MULTILINE)
_ENV_TAKES_ARGUMENT = {"-u", "--unset", "-C", "--chdir"}


class Script(Binary, frozen=True, kw_only=True):
    """One script, by its first line."""

    interpreter: str  # as the first line spells it; empty where it names none
    argument: str  # all that stands behind it, as one word; empty where nothing does
    handed_over_to: str  # the interpreter that a shell hands it over to in its second line; empty where none
    ends_in_return: bool  # the line ends in a carriage return, which then belongs to the last word

    @property
    def looked_up(self) -> str:
        """The command that env(1) looks for on PATH; empty where the interpreter is not env, or is given none."""
        if self.interpreter.rpartition("/")[2] != "env":
            return ""
        try:
            words = shlex.split(self.argument.removeprefix("-S").removeprefix("--split-string="))
        except ValueError:
            return ""
        if not self.argument.startswith(("-S", "--split-string=")):
            words = [self.argument] if self.argument else []
        while words and (words[0].startswith("-") or "=" in words[0]):
            words = words[2 if words[0] in _ENV_TAKES_ARGUMENT else 1 :]
        return words[0] if words else ""


def read_script(source: ByteSource) -> Script:
    """Read a script that begins with MAGIC; what keeps it from being run, such as a byte order mark, is a problem."""
    head = source.read_at(0, _HEAD)
    has_mark = head.startswith(_BYTE_ORDER_MARK)
    head = head.removeprefix(_BYTE_ORDER_MARK)
    line, newline, _ = head.partition(b"\n")
    counted = line[: _LONGEST_LINE - 1]
    interpreter, argument = (*_split(counted), b"", b"")[:2]
    handed_over = _HANDED_OVER.search(head)
    problems: list[Problem] = []
    if has_mark:
        problems.append(Problem("first line", say("formats.follows-a-byte-order-mark-so")))
    if not interpreter:
        problems.append(Problem("first line", say("formats.names-no-interpreter")))
    elif len(line) > len(counted) and not argument:
        reason = say("formats.is-longer-than-the-bytes-that", longest_line=_LONGEST_LINE)
        problems.append(Problem("first line", reason))
    return Script(
        format=Format.SCRIPT,
        kind=BinaryKind.PROGRAM,
        architecture=Architecture.ANY,
        name=None,
        needs=(Need(_text(interpreter)),) if interpreter else (),
        problems=tuple(problems),
        size=source.size,
        interpreter=_text(interpreter),
        argument=_text(argument),
        handed_over_to=_text(handed_over[1]).strip('"') if handed_over else "",
        ends_in_return=bool(newline) and line.endswith(b"\r"),
    )


def _split(line: bytes) -> list[bytes]:
    """The interpreter and the rest. Only blanks and tabs part words: a carriage return belongs to its word."""
    return [word for word in re.split(rb"[ \t]+", line.removeprefix(MAGIC).strip(b" \t"), maxsplit=1) if word]


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")
