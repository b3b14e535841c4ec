"""The terms that all formats of settings share: a key, a value, a dialect, and why a value is not changed."""

from collections.abc import Callable
from enum import StrEnum

import msgspec

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError

Key = tuple[str, ...]
Plain = str | int | float | bool | None


class SettingFormat(StrEnum):
    """How a settings file is written."""

    INI = "ini"
    TOML = "toml"
    JSON = "json"
    YAML = "yaml"
    XML = "xml"
    PROPERTIES = "properties"
    SHELL = "shell"
    SYSCTL = "sysctl"


class FoundSetting(msgspec.Struct, frozen=True):
    """A value as it stands."""

    value: Plain


class Dialect(msgspec.Struct, frozen=True):
    """How one format is read and changed; all places are in the text, without a mark of its byte order."""

    find: Callable[[str, Key, str], FoundSetting | None]  # text, key, what the file is for messages
    change: Callable[[str, Key, Plain, str], str]  # the text with a value put in or changed
    remove: Callable[[str, Key, str], str]  # the text without it


def ambiguous(what: str, key: Key) -> UsageError:
    """That a key stands more than once."""
    return refusal(what, key, say("formats.it-is-there-more-than-once"))


def refusal(what: str, key: Key, why: str) -> UsageError:
    """That a value cannot be changed."""
    return UsageError(
        what=say("formats.in-is-not-changed", key=printable(".".join(key)), what=what),
        why=why,
        do=say("formats.nothing-was-changed-change-it-by"),
    )


def as_text(value: Plain) -> str:
    """A value in a format that has nothing but text."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else str(value)
