"""Keep secrets out of what is recorded, and blot names out of what is handed on."""

import re
import shlex
from collections.abc import Iterable, Sequence

from fundamen.model.secrets import BLOT, without_secrets

_PAIR_OPTIONS = {"--env"}  # of ours, whose values are NAME=VALUE of an environment
_ADDRESSES = (
    (re.compile(r"(?<![\w.])(?:\d{1,3}\.){3}\d{1,3}(?![\w.])"), "[address]"),
    (re.compile(r"(?<![\w:])(?:[0-9a-f]{1,4}:){3,7}[0-9a-f]{0,4}(?![\w:])", re.IGNORECASE), "[address]"),
    (re.compile(r"(?<![\w:])(?:[0-9a-f]{2}[:-]){5}[0-9a-f]{2}(?![\w:])", re.IGNORECASE), "[address]"),
    (re.compile(r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+"), "[mail address]"),
    (re.compile(r"\bS-1-\d+(?:-\d+)+\b"), "[user's number]"),
    (re.compile(r"(?<=[\\/])(?i:Users|home|Documents and Settings)([\\/])[^\\/\s'\"]+"), r"home\1[user]"),
    (re.compile(r"\b(?:[A-Z0-9]{5}-){4}[A-Z0-9]{5}\b"), "[key]"),
    (re.compile(r"\b(?:[A-Za-z0-9+/]{40,}={0,2})(?![A-Za-z0-9])"), "[key]"),
)
BLOTS = (BLOT, "[address]", "[mail address]", "[user's number]", "[user]", "[key]", "[name]")
# Digests of files and certificates, and paths: no secrets, and needed. Every part of a path reads as a word; in a key
# that was drawn at random hardly any does.
_NEEDED = re.compile(
    r"[0-9a-fA-F]{40}|[0-9a-fA-F]{64}|/?(?:[A-Z]?[a-z]{0,30}[0-9]{0,3}/){3,}[A-Z]?[a-z]{1,30}[0-9]{0,3}"
)


def command_without_secrets(words: Sequence[str]) -> str:
    """A command, to be read; of an environment only the names are kept."""
    kept = []
    for index, word in enumerate(words):
        before = words[index - 1] if index else ""
        option, equals, value = word.partition("=")
        if before in _PAIR_OPTIONS or (option in _PAIR_OPTIONS and equals):
            prefix = f"{option}=" if option in _PAIR_OPTIONS else ""
            name = (value if prefix else word).partition("=")[0]
            kept.append(f"{prefix}{name}={BLOT}")
        else:
            kept.append(word)
    return without_secrets(shlex.join(kept))


def without_identities(text: str, names: Iterable[str] = ()) -> str:
    """A text without secrets, addresses, keys and the names of people and machines.

    Args:
        text: to be handed on.
        names: further words to blot out, such as those of this host and its user.
    """
    text = without_secrets(text)
    for pattern, instead in _ADDRESSES:
        text = pattern.sub(
            lambda found, instead=instead: found[0] if _NEEDED.fullmatch(found[0]) else found.expand(instead),  # type: ignore[misc]
            text,
        )
    for name in sorted(filter(None, names), key=len, reverse=True):
        text = re.sub(rf"(?<!\w){re.escape(name)}(?!\w)", "[name]", text, flags=re.IGNORECASE)
    return text
