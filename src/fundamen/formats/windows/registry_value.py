r"""A value of the registry in its three forms: as people say it, as it lies in a hive, as a text hive has it.

The text form is that of a prefix's hives: ``"text"``, ``str(2):"%A%"``, ``str(7):"a\0b\0"``, ``dword:0000002a``,
``hex:01,02``, ``hex(b):...`` for any other type. Sources: winnt.h, REG_*; the files of a prefix themselves.
"""

import re
from enum import IntEnum

import msgspec

from fundamen.messages import say
from fundamen.model.errors import UsageError

_HEX = re.compile(r"^hex(?:\(([0-9a-fA-F]+)\))?:(.*)$", re.DOTALL)
_STRING = re.compile(r'^(?:str\(([0-9a-fA-F]+)\):)?"(.*)"$', re.DOTALL)
_ESCAPE = re.compile(r"\\(?:x([0-9a-fA-F]{1,4})|([0-7]{1,3})|(.))", re.DOTALL)
_PLAIN_ESCAPES = {"n": "\n", "r": "\r", "t": "\t", "a": "\a", "e": "\x1b", "0": "\0"}
_WRITTEN = {"\\": "\\\\", '"': '\\"', "\n": "\\n", "\r": "\\r", "\t": "\\t", "\0": "\\000"}
_MOST_NUMBER = 0xFFFF_FFFF
_NUMBER_SIZE = 4  # bytes


class ValueType(IntEnum):
    """Types of values. Source: winnt.h, REG_*."""

    TEXT = 1
    EXPANDED_TEXT = 2
    BINARY = 3
    NUMBER = 4
    TEXTS = 7


_TEXTS = {ValueType.TEXT, ValueType.EXPANDED_TEXT, ValueType.TEXTS}


class HiveValue(msgspec.Struct, frozen=True):
    """A value as it lies in a hive."""

    type: int  # often a ValueType
    data: bytes

    @property
    def content(self) -> str | int | bytes | tuple[str, ...]:
        """Its content, as people write it; bytes where its type does not fit them."""
        if self.type == ValueType.NUMBER and len(self.data) == _NUMBER_SIZE:
            return int.from_bytes(self.data, "little")
        if self.type not in _TEXTS:
            return self.data
        text = self.data.decode("utf-16-le", "surrogatepass" if len(self.data) % 2 == 0 else "replace")
        return tuple(filter(None, text.split("\0"))) if self.type == ValueType.TEXTS else text.rstrip("\0")

    def as_text(self) -> str:
        """The text form."""
        content = self.content
        if isinstance(content, int):
            return f"dword:{content:08x}"
        if isinstance(content, bytes):
            form = "hex" if self.type == ValueType.BINARY else f"hex({self.type:x})"
            return f"{form}:{content.hex(',')}"
        text = content if isinstance(content, str) else "".join(f"{part}\0" for part in content)
        form = "" if self.type == ValueType.TEXT else f"str({self.type:x}):"
        return f'{form}"{_escape(text)}"'


def value_of(content: str | int | tuple[str, ...], type_: ValueType | None = None) -> HiveValue:
    """The value that holds some content. Raises: UsageError: it does not fit the type."""
    if isinstance(content, int) and type_ in {None, ValueType.NUMBER} and 0 <= content <= _MOST_NUMBER:
        return HiveValue(ValueType.NUMBER, content.to_bytes(_NUMBER_SIZE, "little"))
    if isinstance(content, str) and type_ in {None, ValueType.TEXT, ValueType.EXPANDED_TEXT}:
        return HiveValue(type_ or ValueType.TEXT, f"{content}\0".encode("utf-16-le", "surrogatepass"))
    if isinstance(content, tuple) and type_ in {None, ValueType.TEXTS}:
        text = "".join(f"{part}\0" for part in content) + "\0"
        return HiveValue(ValueType.TEXTS, text.encode("utf-16-le", "surrogatepass"))
    raise UsageError(
        what=say("formats.cannot-be-written-into-the-registry", content=content),
        why=say("formats.a-value-of-the-type-cannot", more=type_.name.lower() if type_ is not None else "number"),
        do=say("formats.nothing-was-changed-write-a-text"),
    )


def read_written(text: str) -> HiveValue:
    """A value from its text form; what is in no known form is taken as text."""
    if (
        text.startswith("dword:")
        and (digits := text[6:]).strip()
        and all(c in "0123456789abcdefABCDEF" for c in digits)
    ):
        return HiveValue(ValueType.NUMBER, (int(digits, 16) & _MOST_NUMBER).to_bytes(_NUMBER_SIZE, "little"))
    if found := _HEX.match(text):
        try:
            data = bytes.fromhex(re.sub(r"[\\\s,]", " ", found[2]))
        except ValueError:
            data = b""
        return HiveValue(int(found[1], 16) if found[1] else ValueType.BINARY, data)
    found = _STRING.match(text)
    plain = unescape(found[2] if found else text)
    type_ = int(found[1], 16) if found and found[1] else ValueType.TEXT
    return HiveValue(type_, f"{plain}\0".encode("utf-16-le", "surrogatepass"))


def unescape(text: str) -> str:
    """A text without the escapes that a text hive has."""
    if "\\" not in text:
        return text

    def character(match: re.Match[str]) -> str:
        if match[1]:
            return chr(int(match[1], 16))
        if match[2]:
            return chr(int(match[2], 8))
        return _PLAIN_ESCAPES.get(match[3], match[3])

    return _ESCAPE.sub(character, text)


def _escape(text: str) -> str:
    units = text.encode("utf-16-le", "surrogatepass")
    characters = (chr(int.from_bytes(units[at : at + 2], "little")) for at in range(0, len(units), 2))
    return "".join(_WRITTEN.get(c) or (c if " " <= c <= "~" else f"\\x{ord(c):04x}") for c in characters)
