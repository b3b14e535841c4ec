"""Settings in TOML. Source: TOML 1.0; the library keeps comments, order and blanks as they are."""

from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from fundamen.formats.cursor import damage_error
from fundamen.formats.decimal import read_decimal
from fundamen.formats.settings.setting import FoundSetting, Key, Plain, refusal
from fundamen.messages import say


def find(text: str, key: Key, what: str) -> FoundSetting | None:
    """A value as it stands."""
    node: Any = _read(text, what)
    for part in key:
        node = _child(node, part)
        if node is None:
            return None
    value = node.unwrap() if hasattr(node, "unwrap") else node
    if isinstance(value, dict | list):
        raise refusal(what, key, say("formats.it-is-a-group-of-settings"))
    return FoundSetting(value if isinstance(value, str | int | float | bool) else str(value))


def change(text: str, key: Key, value: Plain, what: str) -> str:
    """The text with a value changed, or put in behind the others of its table."""
    if value is None:
        raise refusal(what, key, say("formats.toml-has-no-empty-value"))
    document: Any = _read(text, what)
    node = document
    for part in key[:-1]:
        node = _child(node, part)
        if node is None:
            raise refusal(what, key, say("formats.its-table-does-not-exist"))
    holds_more = isinstance(node, dict | list)  # in a variable, as the library's types are narrowed wrongly
    if not holds_more:
        raise refusal(what, key, say("formats.is-a-value-and-no-table", key=key[-2]))
    if find(text, key, what) is not None:
        old = node[int(key[-1]) if isinstance(node, list) else key[-1]]
        new = tomlkit.item(value)
        if hasattr(old, "trivia"):
            new.trivia.comment_ws, new.trivia.comment = old.trivia.comment_ws, old.trivia.comment
            new.trivia.trail = old.trivia.trail
        node[int(key[-1]) if isinstance(node, list) else key[-1]] = new
    elif isinstance(node, list):
        raise refusal(what, key, say("formats.the-list-has-no-such-place"))
    else:
        node[key[-1]] = value
    return tomlkit.dumps(document)


def remove(text: str, key: Key, what: str) -> str:
    """The text without a value."""
    if find(text, key, what) is None:
        return text
    document: Any = _read(text, what)
    node = document
    for part in key[:-1]:
        node = _child(node, part)
    del node[int(key[-1]) if isinstance(node, list) else key[-1]]
    return tomlkit.dumps(document)


def _child(node: Any, part: str) -> Any:  # noqa: ANN401 - whatever the library has there
    if isinstance(node, dict):
        return node.get(part)
    index = read_decimal(part) if isinstance(node, list) else None
    return node[index] if index is not None and index < len(node) else None


def _read(text: str, what: str) -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(text)
    except (TOMLKitError, ValueError, RecursionError) as error:
        raise damage_error(what, say("formats.it-is-no-toml", error=error)) from error
