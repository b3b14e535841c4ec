r"""Read a registry hive in the text form that a prefix keeps (system.reg, user.reg).

The form: a line ``WINE REGISTRY Version 2``, then for each key a line ``[Path\\To\\Key] time`` and lines
``"Name"=value``, where a value is ``"text"``, ``str(2):"text"``, ``str(7):"a\0b"``, ``dword:0000002a`` or
``hex(type):01,02,\`` continued on the next line. Backslashes, quotes and control characters are escaped as in C, other
characters as ``\x263a``. Source: the files themselves, and regedit's documented export format, which theirs extends.
"""

import re
from collections.abc import Iterator

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.formats.windows.registry_value import HiveValue, read_written, unescape
from fundamen.messages import say

MAGIC = b"WINE REGISTRY Version 2"

Value = str | int | bytes | tuple[str, ...]

_MOST_FOUND = 1000  # keys that are remembered
_KEY = re.compile(r"((?:[^\\\]\n]|\\.)*)\]")
_BRACKETS = str.maketrans({"[": "\\[", "]": "\\]"})
_NAME_AND_VALUE = re.compile(r'^(?:@|"((?:[^"\\]|\\.)*)")=(.*)$', re.DOTALL)


class TextHive:
    """One hive in text form. Keys are found where they are asked for; the file is not parsed as a whole."""

    def __init__(self, data: bytes) -> None:
        """Take the file's bytes. Raises: DamagedFileError: they do not begin like a hive."""
        if not data.startswith(MAGIC):
            raise damage_error(
                say("formats.the-registry-of-the-prefix"), say("formats.it-does-not-begin-with", magic=MAGIC.decode())
            )
        self._text = data.decode("utf-8", "replace")
        self._found: dict[str, dict[str, Value] | None] = {}  # by the key as it is escaped, without regard to case
        self._folded = self._text.lower()
        if len(self._folded) != len(self._text):  # a character whose lower case is longer would shift what is found
            self._folded = "".join(c.lower() if len(c.lower()) == 1 else c for c in self._text)

    def values(self, key: str) -> dict[str, Value] | None:
        """The values of a key by name, the unnamed one as ""; None where there is no such key."""
        folded = _escape_key(key).lower()
        if folded not in self._found:  # many programs ask for the same few keys
            if len(self._found) >= _MOST_FOUND:
                self._found.clear()
            self._found[folded] = self._find(folded)
        found = self._found[folded]
        return dict(found) if found is not None else None

    def _find(self, folded: str) -> dict[str, Value] | None:
        at = self._folded.find(f"\n[{folded}]")
        if at < 0:
            return None
        start = self._text.find("\n", at + 1)
        end = self._text.find("\n[", start) if start >= 0 else -1
        block = self._text[start + 1 : end if end >= 0 else len(self._text)] if start >= 0 else ""
        return dict(_values(block))

    def subkeys(self, key: str) -> tuple[str, ...]:
        """The names of the keys right below a key, as they are spelled."""
        prefix = "\n[" + _escape_key(key).lower() + "\\\\"
        names: dict[str, str] = {}
        at = self._folded.find(prefix)
        while at >= 0:
            found = _KEY.match(self._text, at + 2)
            rest = unescape(found[1])[len(key) + 1 :] if found is not None else ""
            name = rest.split("\\", 1)[0]
            if name:
                names.setdefault(name.lower(), name)
            at = self._folded.find(prefix, at + 1)
        return tuple(names.values())


def _values(block: str) -> Iterator[tuple[str, Value]]:
    for name, text in _written_values(block):
        yield name, _value(text)


def _written_values(block: str) -> Iterator[tuple[str, str]]:
    """The values of a key as they are written, each in one line."""
    lines = iter(block.splitlines())
    for line in lines:
        whole = line
        while whole.endswith("\\") and _is_hexadecimal(whole):
            whole = whole[:-1] + next(lines, "").strip()
        match = _NAME_AND_VALUE.match(whole)
        if match:
            yield unescape(match[1] or ""), match[2]


def _value(text: str) -> Value:
    kind, _, rest = text.partition(":") if not text.startswith('"') else ("str", "", text)
    try:
        if kind == "dword":
            return int(rest, 16)
        if kind.startswith("hex"):
            return bytes.fromhex(rest.replace(",", " "))
    except ValueError:
        return text
    plain = unescape(rest.strip().removeprefix('"').removesuffix('"'))
    return tuple(filter(None, plain.split("\0"))) if kind == "str(7)" else plain


def _escape_key(key: str) -> str:
    return (
        HiveValue(1, key.encode("utf-16-le", "surrogatepass")).as_text()[1:-1].translate(_BRACKETS).replace('\\"', '"')
    )


def changed_keys(before: bytes, after: bytes) -> set[str]:
    """The keys whose values differ between two states of a hive, or that only one of them has; times do not count."""
    one, other = _blocks(before), _blocks(after)
    return {key for key in one.keys() | other.keys() if one.get(key) != other.get(key)}


def _blocks(data: bytes) -> dict[str, tuple[str, ...]]:
    blocks = {}
    for block in data.decode("utf-8", "replace").split("\n[")[1:]:
        key, _, rest = block.partition("]")
        blocks[key] = tuple(line for line in rest.splitlines()[1:] if line and not line.startswith("#time="))
    return blocks


def with_key(data: bytes, key: str, values: dict[str, bytes], seconds: int) -> bytes:
    """A hive with one more key at its end, of binary values; everything else stays as it is, to the byte.

    Args:
        data: the hive.
        key: its path; it must not be there yet.
        values: name -> bytes.
        seconds: when, since 1970, UTC.
    """
    lines = [f"[{_escape_key(key)}] {seconds}"]
    lines += [f'"{name}"=hex:{content.hex(",")}' for name, content in values.items()]
    separator = b"" if data.endswith(b"\n") else b"\n"
    return data + separator + b"\n" + "\n".join(lines).encode() + b"\n"


def without_key(data: bytes, key: str) -> bytes:
    """A hive without one key and its values; the same bytes where it has no such key."""
    text = data.decode("utf-8", "surrogateescape")
    found = re.search(re.escape("\n[" + _escape_key(key) + "]"), text, re.IGNORECASE)
    if found is None:
        return data
    begin = found.start() - (text[: found.start()].endswith("\n"))  # the empty line before it goes with it
    end = text.find("\n[", found.end())
    rest = "\n" if end < 0 else text[end - (text[end - 1] == "\n") :]
    return (text[:begin] + rest).encode("utf-8", "surrogateescape")


def find_value(data: bytes, key: str, name: str) -> HiveValue | None:
    """One value of a key; None where there is none."""
    text = data.decode("utf-8", "surrogateescape")
    found = _entry(text, key, name)
    return read_written(text[found[0] : found[1]].partition("=")[2].rstrip()) if found is not None else None


def with_value(data: bytes, key: str, name: str, value: HiveValue | None, seconds: int) -> bytes:
    """A hive in which a key has a value, or has it no more; everything else stays as it is, to the byte.

    Args:
        data: the hive.
        key: its path; it is put at the end where it is not there.
        name: of the value; "" is the unnamed one.
        value: None takes it out.
        seconds: when, since 1970, UTC; written only where the key is new.
    """
    text = data.decode("utf-8", "surrogateescape")
    found = _entry(text, key, name)
    line = "" if value is None else f"{_written_name(name)}={value.as_text()}\n"
    if found is not None and value is not None:
        spelled = text[found[0] : found[1]].partition("=")[0] if "=" not in name else _written_name(name)
        text = f"{text[: found[0]]}{spelled}={value.as_text()}\n{text[found[1] :]}"
    elif found is not None:
        text = text[: found[0]] + line + text[found[1] :]
    elif value is not None and (block := _block(text, key)) is not None:
        end = block[0] + len(text[block[0] : block[1]].rstrip("\n")) + 1
        text = text[:end].ljust(end, "\n") + line + text[end:]
    elif value is not None:
        separator = "" if text.endswith("\n") else "\n"
        text = f"{text}{separator}\n[{_escape_key(key)}] {seconds}\n{line}"
    return text.encode("utf-8", "surrogateescape")


class ChangedValue(msgspec.Struct, frozen=True):
    """A value that differs between two states of a hive."""

    key: str
    name: str
    old: HiveValue | None  # None: there was none
    new: HiveValue | None


def changed_values(before: bytes, after: bytes) -> tuple[ChangedValue, ...]:
    """The values that differ between two states of a hive, or that only one of them has."""
    one, other = _all_values(before), _all_values(after)
    return tuple(
        ChangedValue(*names, one.get(names), other.get(names))
        for names in dict.fromkeys((*one, *other))
        if one.get(names) != other.get(names)
    )


def _all_values(data: bytes) -> dict[tuple[str, str], HiveValue]:
    """(key, name) -> value, of a whole hive."""
    found: dict[tuple[str, str], HiveValue] = {}
    for block in data.decode("utf-8", "surrogateescape").split("\n[")[1:]:
        head, _, rest = block.partition("\n")
        named = _KEY.match(head)
        key = unescape(named[1]) if named is not None else ""
        for name, text in _written_values(rest):
            found[key, name] = read_written(text)
    return found


def _written_name(name: str) -> str:
    return HiveValue(1, name.encode("utf-16-le", "surrogatepass")).as_text() if name else "@"


def _block(text: str, key: str) -> tuple[int, int] | None:
    """(where the lines of a key begin, where they end)."""
    found = re.search(re.escape("\n[" + _escape_key(key) + "]") + r"[^\n]*\n?", text, re.IGNORECASE)
    if found is None:
        return None
    end = text.find("\n[", found.end() - 1)
    return found.end(), len(text) if end < 0 else end + 1


def _entry(text: str, key: str, name: str) -> tuple[int, int] | None:
    """(where the lines of a value begin, where they end)."""
    block = _block(text, key)
    at, end = block or (0, 0)
    while at < end:
        begin = at
        while True:  # a value in hexadecimal goes on where its line ends in a backslash
            newline = text.find("\n", at, end)
            at = end if newline < 0 else newline + 1
            if at >= end or not text[begin:at].rstrip("\n").endswith("\\") or not _is_hexadecimal(text[begin:at]):
                break
        match = _NAME_AND_VALUE.match(text[begin:at])
        if match and unescape(match[1] or "").lower() == name.lower():
            return begin, at
    return None


def _is_hexadecimal(line: str) -> bool:
    return line.partition("=")[2].startswith("hex")
