"""Read linker scripts that stand in a library's place, and name the files that are meant.

Source: the manual of GNU ld, "File Commands" (INPUT, GROUP, AS_NEEDED, OUTPUT_FORMAT).
"""

import re

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_TOKEN = re.compile(r'/\*.*?\*/|"([^"]*)"|([^\s(),;"]+)|([(),;])', re.DOTALL)
_NAMING = {"INPUT", "GROUP", "AS_NEEDED"}
_KNOWN = _NAMING | {"OUTPUT_FORMAT", "OUTPUT_ARCH", "SEARCH_DIR", "TARGET", "ENTRY", "OUTPUT", "STARTUP"}
_MOST_FILES = 1000
_DEEPEST = 8


class LinkerInput(msgspec.Struct, frozen=True):
    """One file that a script stands for."""

    name: str  # a path, a file name that is searched, or ``-lname``
    as_needed: bool


def read_linker_script(text: str, name: str) -> tuple[LinkerInput, ...]:
    """The files that a script names, in its order.

    Raises:
        DamagedFileError: it is no such script: it names no command that is known, or its parentheses do not match.
    """
    meant: list[LinkerInput] = []
    commands: list[str] = []  # the open parentheses' commands, the innermost last
    word = ""
    has_command = False
    for quoted, plain, mark in _TOKEN.findall(text):
        if mark == "(":
            if word not in _KNOWN or len(commands) >= _DEEPEST:
                break
            commands.append(word)
            has_command = True
        elif mark == ")":
            if not commands:
                break
            commands.pop()
        elif quoted or plain:
            word = quoted or plain
            if commands and commands[-1] in _NAMING and word not in _KNOWN and len(meant) < _MOST_FILES:
                meant.append(LinkerInput(word, "AS_NEEDED" in commands))
    else:
        if has_command and not commands:
            return tuple(meant)
    raise damage_error(printable(name), say("formats.it-is-text-but-no-script"))
