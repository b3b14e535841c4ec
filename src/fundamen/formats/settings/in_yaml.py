"""Settings in YAML: where each scalar is, so that one can be changed without writing the rest again.

Source: YAML 1.1, as the library reads it. Several documents in one file, and values behind an alias, are refused.
"""

import yaml
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from fundamen.formats.cursor import damage_error
from fundamen.formats.decimal import read_decimal
from fundamen.formats.settings.setting import FoundSetting, Key, Plain, ambiguous, refusal
from fundamen.messages import say

_MOST_DEPTH = 64


class _Loader(yaml.SafeLoader):
    """Refuses text that nests without end, before each token of it is held against every level above."""

    def fetch_flow_collection_start(self, TokenClass: type) -> None:  # noqa: N803 - the library's own signature
        if self.flow_level >= _MOST_DEPTH:
            raise yaml.YAMLError(say("formats.it-nests-more-than-deep", most_depth=_MOST_DEPTH))
        super().fetch_flow_collection_start(TokenClass)


def find(text: str, key: Key, what: str) -> FoundSetting | None:
    """A value as it stands."""
    node = _node(_root(text, what), key, what)
    if node is None:
        return None
    if not isinstance(node, ScalarNode):
        raise refusal(what, key, say("formats.it-is-a-group-of-settings"))
    try:
        value = yaml.SafeLoader("").construct_object(node)
    except (yaml.YAMLError, ValueError, OverflowError) as error:  # an unknown tag, a date that is none, a huge number
        raise refusal(what, key, say("formats.it-cannot-be-read", error=str(error).splitlines()[0])) from error
    return FoundSetting(value if isinstance(value, str | int | float | bool) or value is None else str(value))


def change(text: str, key: Key, value: Plain, what: str) -> str:
    """The text with a value changed, or put in behind the others of its mapping."""
    root = _root(text, what)
    node, spelled = _node(root, key, what), _spell_value(value, key, what)
    if node is not None:
        find(text, key, what)  # a group is not replaced
        _require_plain_place(text, node, key, what)
        blank = "" if node.start_mark.index == 0 or text[node.start_mark.index - 1] in " \t[{,-" else " "
        return text[: node.start_mark.index] + blank + spelled + text[node.end_mark.index :]
    outer = _node(root, key[:-1], what) if root is not None else None
    if not isinstance(outer, MappingNode) or outer.flow_style or not outer.value:
        raise refusal(what, key, say("formats.its-group-does-not-exist-or"))
    name, last = outer.value[-1]
    indent = " " * name.start_mark.column
    end = _end_of(last)
    line_end = text.find("\n", end)
    newline = "\r\n" if "\r\n" in text else "\n"
    at = line_end + 1 if line_end >= 0 else len(text)
    break_before = "" if text[:at].endswith("\n") else newline
    return f"{text[:at]}{break_before}{indent}{_spell_value(key[-1], key, what)}: {spelled}{newline}{text[at:]}"


def remove(text: str, key: Key, what: str) -> str:
    """The text without a value that stands in lines of its own."""
    root = _root(text, what)
    node = _node(root, key, what)
    if node is None:
        return text
    outer = _node(root, key[:-1], what)
    if not isinstance(outer, MappingNode) or outer.flow_style or len(outer.value) == 1:
        raise refusal(what, key, say("formats.it-is-not-on-lines-of"))
    name = next(name for name, value in outer.value if value is node)
    begin = text.rfind("\n", 0, name.start_mark.index) + 1
    end = text.find("\n", _end_of(node))
    return text[:begin] + (text[end + 1 :] if end >= 0 else "")


def _root(text: str, what: str) -> Node | None:
    try:
        return yaml.compose(text, Loader=_Loader)
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        raise damage_error(
            what, say("formats.it-is-no-yaml-or-holds", splitlines=str(error).splitlines()[0])
        ) from error


def _node(node: Node | None, key: Key, what: str) -> Node | None:
    for part in key:
        if isinstance(node, MappingNode):
            fitting = [value for name, value in node.value if isinstance(name, ScalarNode) and name.value == part]
            if len(fitting) > 1:
                raise ambiguous(what, key)
            node = fitting[0] if fitting else None
        elif isinstance(node, SequenceNode):
            index = read_decimal(part)
            node = node.value[index] if index is not None and index < len(node.value) else None
        else:
            return None
    return node


def _require_plain_place(text: str, node: Node, key: Key, what: str) -> None:
    """An alias has the place of what it stands for, and a tag or anchor stands before its value."""
    line = text[text.rfind("\n", 0, node.start_mark.index) + 1 : node.start_mark.index]
    if "&" in line or text[node.start_mark.index : node.start_mark.index + 1] in {"&", "!", "|", ">"}:
        raise refusal(what, key, say("formats.other-values-refer-to-it-or"))


def _end_of(node: Node) -> int:
    """Where the last scalar of a node ends; a block itself ends only where the next thing begins."""
    for _ in range(_MOST_DEPTH):
        if isinstance(node, MappingNode) and node.value and not node.flow_style:
            node = node.value[-1][1]
        elif isinstance(node, SequenceNode) and node.value and not node.flow_style:
            node = node.value[-1]
        else:
            break
    return int(node.end_mark.index)


def _spell_value(value: Plain, key: Key, what: str) -> str:
    if value is None:
        return "null"
    if not isinstance(value, str):
        return yaml.safe_dump(value, width=1 << 20).partition("\n")[0]
    if any(mark in value for mark in "\r\n"):
        raise refusal(what, key, say("formats.a-value-of-several-lines-is"))
    text = yaml.safe_dump(value, allow_unicode=True, width=1 << 20, default_flow_style=True)
    return text.removesuffix("\n").removesuffix("\n...")
