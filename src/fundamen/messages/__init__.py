"""Texts by their codes: what the core says is a code and values, and one catalogue has the words for it.

A catalogue is one folder of modules, one for each package that says something: ``english`` is the only one now, and a
second language is a second folder of the same codes and holes. A code begins with the package that says it, so only
the texts of packages that say something are loaded.
"""

from collections.abc import Mapping, Sequence
from datetime import date
from importlib import import_module
from typing import Self

Value = str | int | float | date
_LANGUAGE = "english"
_TELLING = {"common.said-of": ["said"], "common.of-a-place": ["said"], "common.both": ["first", "second"]}
_loaded: dict[str, Mapping[str, str]] = {}


class Message(str):
    """A text that knows its code and its values.

    It is a ``str``, so that it can go wherever Python takes text: into an exception, a format, a file. Code that
    decides looks at the code of the message.

    Attributes:
        code: what is said, for scripts; it stays the same when the words are changed.
        values: what it is said of, by the names of the holes. A value may be a message itself.
    """

    __slots__ = ("code", "values")
    code: str
    values: Mapping[str, Value]

    def __new__(cls, text: str, code: str, values: Mapping[str, Value]) -> Self:
        """A message whose text was composed already; ``say`` composes it."""
        message = super().__new__(cls, text)
        message.code, message.values = code, values
        return message

    @property
    def decisive_code(self) -> str:
        """The code, for scripts; of what only puts two texts together, that of the text that says something."""
        for name in _TELLING.get(self.code, ()):
            inner = self.values[name]
            if isinstance(inner, Message):
                return inner.decisive_code
        return self.code

    def __reduce__(self) -> tuple[type[Self], tuple[str, str, Mapping[str, Value]]]:
        """How it is handed over between processes."""
        return type(self), (str(self), self.code, self.values)


def say(code: str, /, **values: object) -> Message:
    """A message by its code.

    Args:
        code: as the catalogue has it, such as ``trace.no-user-may-execute-it``.
        values: for the holes of its text.

    Raises:
        KeyError: the catalogue has no such code, or a hole of its text has no value.
    """
    text = template(code).format_map(values)
    kept = {name: value if isinstance(value, Value) else str(value) for name, value in values.items()}
    return Message(text, code, kept)


def template(code: str) -> str:
    """The text of a code with its holes, as ``str.format`` has them.

    Raises:
        KeyError: the catalogue has no such code.
    """
    package, _, name = code.partition(".")
    texts = _loaded.get(package)
    if texts is None:
        texts = _loaded[package] = import_module(f"{__name__}.{_LANGUAGE}.{package}").TEXTS
    return texts[name]


UNSAID = Message("", "", {})  # where there is nothing to say


def join_clauses(*clauses: Message) -> Message:
    """Clauses one after the other; those that say nothing are left out."""
    joined = UNSAID
    for clause in clauses:
        joined = say("common.both", first=joined, second=clause) if joined and clause else joined or clause
    return joined


def name_some(names: Sequence[str], most: int) -> Message:
    """The first of some names, and how many more there are."""
    first = ", ".join(names[:most])
    if len(names) <= most:
        return say("common.names", names=first)
    return say("common.names-and-more", names=first, count=len(names) - most)


def as_command(line: str) -> Message:
    """A command that can be pasted, as a message: it is the same in every language."""
    return line if isinstance(line, Message) else Message(line, "command", {"line": line})


def as_said(text: str) -> Message:
    """A message that quotes another speaker: the operating system, a server, a tool."""
    return text if isinstance(text, Message) else Message(text, "quoted", {"text": text})
