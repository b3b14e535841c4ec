"""Settings in JSON: where each value is, so that one can be changed without writing the rest again.

Source: RFC 8259. Names of an object must not stand twice where one of them is asked for (section 4).
"""

import json
import re
from collections.abc import Iterator

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.formats.settings.setting import FoundSetting, Key, Plain, ambiguous, refusal
from fundamen.messages import say

_BLANK = re.compile(r"[ \t\r\n]*")
_DECODER = json.JSONDecoder()


class _Member(msgspec.Struct, frozen=True):
    """One member of an object, or one element of an array."""

    name: str
    begin: int  # of the name, or of the element
    value_at: int
    end: int  # of the value


def find(text: str, key: Key, what: str) -> FoundSetting | None:
    """A value as it stands."""
    place = _place(text, key, what)
    if place is None:
        return None
    value = _decode_value(text, place.value_at, what)[0]
    if isinstance(value, dict | list):
        raise refusal(what, key, say("formats.it-is-a-group-of-settings"))
    return FoundSetting(value)


def change(text: str, key: Key, value: Plain, what: str) -> str:
    """The text with a value changed, or put in as the last member of its object."""
    place, spelled = _place(text, key, what), json.dumps(value, ensure_ascii=False)
    if place is not None:
        find(text, key, what)  # a group is not replaced
        return text[: place.value_at] + spelled + text[place.end :]
    outer = _place(text, key[:-1], what)
    if outer is None or text[outer.value_at] != "{":
        raise refusal(what, key, say("formats.its-group-does-not-exist"))
    members = list(_members(text, outer.value_at, what))
    entry = f"{json.dumps(key[-1], ensure_ascii=False)}: {spelled}"
    if not members:
        return text[: outer.value_at + 1] + entry + text[outer.value_at + 1 :]
    last = members[-1]
    before = text[: last.begin]
    blank = before[len(before.rstrip(" \t\r\n")) :]  # as the last member is set off
    return text[: last.end] + "," + (blank or " ") + entry + text[last.end :]


def remove(text: str, key: Key, what: str) -> str:
    """The text without a member."""
    outer, place = _place(text, key[:-1], what), _place(text, key, what)
    if outer is None or place is None:
        return text
    members = list(_members(text, outer.value_at, what))
    index = members.index(place)
    if index + 1 < len(members):
        return text[: place.begin] + text[members[index + 1].begin :]
    begin = members[index - 1].end if index else place.begin
    return text[:begin] + text[place.end :]


def _place(text: str, key: Key, what: str) -> _Member | None:
    begin = _after_blank(text, 0)
    _, end = _decode_value(text, begin, what)
    if text[end:].strip():
        raise damage_error(what, say("formats.there-is-more-text-after-its", end=end))
    place = _Member("", begin, begin, end)
    for part in key:
        if text[place.value_at : place.value_at + 1] not in {"{", "["}:
            return None
        fitting = [member for member in _members(text, place.value_at, what) if member.name == part]
        if len(fitting) > 1:
            raise ambiguous(what, key)
        if not fitting:
            return None
        place = fitting[0]
    return place


def _members(text: str, at: int, what: str) -> Iterator[_Member]:
    is_object, number = text[at] == "{", 0
    at = _after_blank(text, at + 1)
    while text[at] not in "}]":
        begin, name = at, str(number)
        if is_object:
            decoded, at = _decode_value(text, at, what)
            name, at = str(decoded), _after_blank(text, _after_blank(text, at) + 1)
        _, end = _decode_value(text, at, what)
        yield _Member(name, begin, at, end)
        at = _after_blank(text, end)
        if text[at] == ",":
            at = _after_blank(text, at + 1)
        number += 1


def _after_blank(text: str, at: int) -> int:
    match = _BLANK.match(text, at)
    assert match is not None  # noqa: S101 - it matches nothing as well
    return match.end()


def _decode_value(text: str, at: int, what: str) -> tuple[Plain | dict[str, object] | list[object], int]:
    try:
        return _DECODER.raw_decode(text, at)
    except (ValueError, RecursionError) as error:
        raise damage_error(what, say("formats.it-is-no-json", error=error)) from error
