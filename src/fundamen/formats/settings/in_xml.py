"""Settings in XML: the text of an element or the value of an attribute, changed where it stands.

Source: XML 1.0. An element is named by the path of names to it; where several of a name stand beside each other, by its
position among them, counted from 0, behind the name: ``server[1]``. Documents that declare entities are refused.
"""

import re
from xml.parsers import expat
from xml.sax.saxutils import escape, quoteattr

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.formats.decimal import read_decimal
from fundamen.formats.settings.setting import FoundSetting, Key, Plain, ambiguous, as_text, refusal
from fundamen.messages import say

_STEP = re.compile(r"^(.*?)(?:\[(\d+)\])?$")
_ATTRIBUTE = re.compile(rb"""\s([^\s=/>]+)\s*=\s*("[^"]*"|'[^']*')""")
_MOST_DEPTH = 64
_MOST_ELEMENTS = 200_000


class _Element:
    """One element with its places in the document's bytes."""

    def __init__(self, name: str, begin: int) -> None:
        self.name, self.begin = name, begin
        self.inner, self.inner_end = begin, begin  # between its tags
        self.attributes: dict[str, str] = {}
        self.text = ""
        self.children: list[_Element] = []


class _Place(msgspec.Struct, frozen=True):
    begin: int
    end: int
    value: str
    is_attribute: bool


def find(text: str, key: Key, what: str) -> FoundSetting | None:
    """A value as it stands."""
    data = text.encode("utf-8", "surrogateescape")
    place = _place(data, key, what)
    return FoundSetting(place.value) if place is not None else None


def change(text: str, key: Key, value: Plain, what: str) -> str:
    """The text with a value changed, or put in as the last of its element."""
    data = text.encode("utf-8", "surrogateescape")
    place, plain = _place(data, key, what), as_text(value)
    if place is not None:
        spelled = quoteattr(plain) if place.is_attribute else escape(plain)
        return _join(data[: place.begin], spelled, data[place.end :])
    outer = _element(_root(data, what), key[:-1], key, what)
    name, is_attribute = key[-1].removeprefix("@"), key[-1].startswith("@")
    if outer is None or not re.fullmatch(r"[A-Za-z_:][\w.:-]*", name):
        raise refusal(what, key, say("formats.its-element-does-not-exist"))
    if is_attribute:
        at = outer.begin + 1 + len(outer.name.encode())
        return _join(data[:at], f" {name}={quoteattr(plain)}", data[at:])
    if outer.inner == outer.inner_end and not data[: outer.inner].endswith(b">"):
        raise refusal(what, key, say("formats.its-element-is-empty"))
    last = outer.children[-1].begin if outer.children else outer.inner
    blank = data[:last][len(data[:last].rstrip()) :].decode() if outer.children else ""
    end = len(data[: outer.inner_end].rstrip()) if outer.children else outer.inner_end
    return _join(data[:end], f"{blank}<{name}>{escape(plain)}</{name}>", data[end:])


def remove(text: str, key: Key, what: str) -> str:
    """The text without a value: without the attribute, or with an element that is empty."""
    data = text.encode("utf-8", "surrogateescape")
    place = _place(data, key, what)
    if place is None:
        return text
    if not place.is_attribute:
        raise refusal(what, key, say("formats.an-element-is-not-removed-since"))
    begin = data.rfind(key[-1][1:].encode(), 0, place.begin)
    return _join(data[: len(data[:begin].rstrip())], "", data[place.end :])


def _join(before: bytes, middle: str, after: bytes) -> str:
    return (before + middle.encode() + after).decode("utf-8", "surrogateescape")


def _place(data: bytes, key: Key, what: str) -> _Place | None:
    root = _root(data, what)
    is_attribute = key[-1].startswith("@")
    element = _element(root, key[:-1] if is_attribute else key, key, what)
    if element is None:
        return None
    if not is_attribute:
        if element.children:
            raise refusal(what, key, say("formats.it-holds-further-elements-no-value"))
        if b"<" in data[element.inner : element.inner_end]:
            raise refusal(what, key, say("formats.it-holds-a-comment-or-a"))
        return _Place(element.inner, element.inner_end, element.text, is_attribute=False)
    name = key[-1][1:]
    if name not in element.attributes:
        return None
    for match in _ATTRIBUTE.finditer(data, element.begin, element.inner):
        if match[1] == name.encode():
            return _Place(match.start(2), match.end(2), element.attributes[name], is_attribute=True)
    return None


def _element(root: _Element, path: Key, key: Key, what: str) -> _Element | None:
    """The element at a path, whose first part is the root's own name."""
    outer = _Element("", 0)
    outer.children = [root]
    for part in path:
        match = _STEP.match(part)
        name, number = (match[1], match[2]) if match else (part, None)
        fitting = [child for child in outer.children if child.name == name]
        if number is None and len(fitting) > 1:
            raise ambiguous(what, key)
        index = read_decimal(number or "0")
        if index is None or index >= len(fitting):
            return None
        outer = fitting[index]
    return outer if path else None


def _root(data: bytes, what: str) -> _Element:
    parser = expat.ParserCreate()
    stack, roots, count = list[_Element](), list[_Element](), 0

    def begin(name: str, attributes: dict[str, str]) -> None:
        nonlocal count
        count += 1
        if len(stack) > _MOST_DEPTH or count > _MOST_ELEMENTS:
            raise damage_error(what, say("formats.it-is-nested-too-deep-or"))
        element = _Element(name, parser.CurrentByteIndex)
        element.attributes = attributes
        element.inner = _end_of_tag(data, element.begin)
        (stack[-1].children if stack else roots).append(element)
        stack.append(element)

    def end(_name: str) -> None:
        stack.pop().inner_end = parser.CurrentByteIndex

    def characters(piece: str) -> None:
        if stack:
            stack[-1].text += piece

    def refuse(*_: object) -> None:
        raise damage_error(what, say("formats.it-declares-entities-or-a-document"))

    parser.StartElementHandler, parser.EndElementHandler = begin, end
    parser.CharacterDataHandler = characters
    parser.StartDoctypeDeclHandler = refuse
    try:
        parser.Parse(data, True)  # noqa: FBT003 - its own interface
    except expat.ExpatError as error:
        raise damage_error(what, say("formats.it-is-no-xml", error=error)) from error
    [root] = roots
    return root


def _end_of_tag(data: bytes, begin: int) -> int:
    """Behind a start tag: its first ">" that stands in no value."""
    quote = 0
    for at in range(begin, len(data)):
        mark = data[at]
        if quote:
            quote = 0 if mark == quote else quote
        elif mark in b"\"'":
            quote = mark
        elif mark == ord(">"):
            return at + 1
    return len(data)
