"""Settings that stand in lines: INI, Java properties, shell-style assignments, sysctl.

Sources: no standard defines INI; what is read here is what all its readers agree on. Java SE, java.util.Properties;
POSIX.1, Shell Command Language, section 2.9.1; sysctl.d(5). Where a name stands more than once, the last one counts in
properties, shell-style and sysctl files, as their readers have it; in INI, where readers differ, it is refused.
"""

import re
import shlex
from collections.abc import Iterator
from functools import partial

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.formats.settings.setting import (
    Dialect,
    FoundSetting,
    Key,
    Plain,
    SettingFormat,
    ambiguous,
    as_text,
    refusal,
)
from fundamen.messages import say

_SECTION = re.compile(r"^[ \t]*\[([^\]\r\n]*)\][ \t]*(?:[;#].*)?$")
_INI = re.compile(r"^([ \t]*)([^=:;#\[\s][^=:\r\n]*?)([ \t]*[=:][ \t]*)(.*?)([ \t]*(?:[ \t];.*)?)$")
_SHELL = re.compile(r"^([ \t]*(?:export[ \t]+)?)([A-Za-z_]\w*)(=)(.*?)((?:[ \t]+#.*)?[ \t]*)$")
_SYSCTL = re.compile(r"^([ \t]*-?)([^=;#\s][^=\r\n]*?)([ \t]*=[ \t]*)(.*?)([ \t]*)$")
_PROPERTY = re.compile(r"^([ \t\f]*)((?:\\.|[^\\=:\s#!])(?:\\.|[^\\=:\s])*)([ \t\f]*[=:]?[ \t\f]*)(.*)()$", re.DOTALL)
_PATTERNS = {
    SettingFormat.INI: _INI,
    SettingFormat.SHELL: _SHELL,
    SettingFormat.SYSCTL: _SYSCTL,
    SettingFormat.PROPERTIES: _PROPERTY,
}
_SEPARATORS = {
    SettingFormat.INI: " = ",
    SettingFormat.SHELL: "=",
    SettingFormat.SYSCTL: " = ",
    SettingFormat.PROPERTIES: "=",
}
_ESCAPES = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}
_CONTINUED = re.compile(r"(?<!\\)(?:\\\\)*\\\r?\n[ \t\f]*")


class _Line(msgspec.Struct, frozen=True):
    """One line, or several that a backslash joins."""

    begin: int
    end: int  # without the end of the line
    next: int
    section: str | None  # of INI: in which it stands; None before the first
    is_heading: bool = False


class _Place(msgspec.Struct, frozen=True):
    begin: int  # of the value
    end: int
    value: str
    line: _Line


def dialect_of(form: SettingFormat) -> Dialect:
    """How a format of lines is read and changed."""
    return Dialect(partial(_find, form), partial(_change, form), partial(_remove, form))


def _find(form: SettingFormat, text: str, key: Key, what: str) -> FoundSetting | None:
    place = _place(form, text, key, what)
    return FoundSetting(place.value) if place is not None else None


def _change(form: SettingFormat, text: str, key: Key, value: Plain, what: str) -> str:
    spelled = _spell_value(form, as_text(value), key, what)
    place = _place(form, text, key, what)
    if place is not None:
        return text[: place.begin] + spelled + text[place.end :]
    newline = "\r\n" if "\r\n" in text else "\n"
    line = f"{_name_spelled(form, key[-1])}{_SEPARATORS[form]}{spelled}{newline}"
    at = len(text)
    if form is SettingFormat.INI:
        section = key[0] if len(key) > 1 else None
        ends = [
            each.next for each in _lines(form, text) if each.section == section and text[each.begin : each.end].strip()
        ]
        if not ends and section is not None:
            line = f"[{section}]{newline}{line}"
        at = ends[-1] if ends else (len(text) if section is not None else 0)
    before = text[:at]
    return before + ("" if not before or before.endswith("\n") else newline) + line + text[at:]


def _remove(form: SettingFormat, text: str, key: Key, what: str) -> str:
    while (place := _place(form, text, key, what)) is not None:
        text = text[: place.line.begin] + text[place.line.next :]
    return text


def _place(form: SettingFormat, text: str, key: Key, what: str) -> _Place | None:
    section, name = (key[0] if len(key) > 1 else None), key[-1]
    plain = (
        "" if form in {SettingFormat.PROPERTIES, SettingFormat.SYSCTL} else name.strip()
    )  # names that are spelled in one way only
    found = []
    for line in _lines(form, text):
        if line.is_heading or (form is SettingFormat.INI and line.section != section):
            continue
        if text.find(plain, line.begin, line.end) < 0:
            continue
        match = _PATTERNS[form].match(text[line.begin : line.end])
        if match is None or _name(form, match[2]) != _name(form, name, is_spelled=False):
            continue
        begin = line.begin + match.start(4)
        found.append(_Place(begin, begin + len(match[4]), _value(form, match[4], what), line))
    if len(found) > 1 and form is SettingFormat.INI:
        raise ambiguous(what, key)
    return found[-1] if found else None


def _lines(form: SettingFormat, text: str) -> Iterator[_Line]:
    at, section = 0, None
    while at < len(text):
        end = at
        while True:
            newline = text.find("\n", end)
            stop = newline if newline >= 0 else len(text)
            own = text[at:stop].removesuffix("\r")
            is_joined = form is SettingFormat.PROPERTIES and (len(own) - len(own.rstrip("\\"))) % 2 == 1
            if not is_joined or newline < 0 or own.lstrip().startswith(("#", "!")):
                break
            end = newline + 1
        following = newline + 1 if newline >= 0 else len(text)
        heading = _SECTION.match(own) if form is SettingFormat.INI else None
        section = heading[1].strip() if heading else section
        yield _Line(at, at + len(own), following, section, heading is not None)
        at = following


def _name(form: SettingFormat, text: str, *, is_spelled: bool = True) -> str:
    """A name in the form in which names are compared."""
    if form is SettingFormat.PROPERTIES and is_spelled:
        return _unescape(text)
    if form is SettingFormat.SYSCTL:  # both ways of writing are one; the first separator tells which it is
        first = next((c for c in text if c in "./"), ".")
        return text.translate(str.maketrans("./", "/.")) if first == "." else text
    return text.strip()


def _name_spelled(form: SettingFormat, name: str) -> str:
    return re.sub(r"([\\=:\s#!])", r"\\\1", name) if form is SettingFormat.PROPERTIES else name


def _value(form: SettingFormat, text: str, what: str) -> str:
    if form is SettingFormat.PROPERTIES:
        return _unescape(_CONTINUED.sub("", text))
    if form is SettingFormat.SHELL:
        try:
            return "".join(shlex.split(text)) if text else ""
        except ValueError as error:
            raise damage_error(what, say("formats.a-value-of-it-cannot-be", error=error)) from error
    if form is SettingFormat.INI and len(text) > 1 and text[0] == text[-1] == '"':
        return text[1:-1]
    return text


def _spell_value(form: SettingFormat, value: str, key: Key, what: str) -> str:
    if form is SettingFormat.PROPERTIES:
        escaped = value.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r").replace("\t", "\\t")
        return re.sub(r"^([ \f])", r"\\\1", escaped)
    if any(mark in value for mark in "\r\n"):
        raise refusal(what, key, say("formats.a-value-of-this-format-has"))
    if form is SettingFormat.SHELL:
        return shlex.quote(value)
    if form is SettingFormat.INI and (value != value.strip() or ";" in value or not value):
        return f'"{value}"' if value else ""
    return value


def _unescape(text: str) -> str:
    def plain(match: re.Match[str]) -> str:
        return chr(int(match[1], 16)) if match[1] else _ESCAPES.get(match[2], match[2])

    return re.sub(r"\\(?:u([0-9a-fA-F]{4})|(.))", plain, text, flags=re.DOTALL)
