"""Paths of two kinds that the type checker keeps apart, and how a path is shown."""

from typing import NewType

MachinePath = NewType("MachinePath", str)
"""A path as the examined machine spells it; bytes that are not UTF-8 are kept as surrogate escapes (PEP 383)."""

HostPath = NewType("HostPath", str)
"""A path that this process may open."""


def shown(text: str) -> str:
    r"""Give text that is safe to print: control characters and undecodable bytes as ``\x..`` escapes.

    File names and strings in hostile files may hold terminal escapes; none reaches a terminal.
    """
    if text.isascii() and text.isprintable():
        return text
    return "".join(_shown_character(c) for c in text)


def _shown_character(c: str) -> str:
    if "\udc80" <= c <= "\udcff":  # a surrogate escape stands for one byte
        return f"\\x{ord(c) - 0xDC00:02x}"
    if c.isprintable():
        return c
    return f"\\x{ord(c):02x}" if ord(c) < 0x100 else f"\\u{ord(c):04x}"  # noqa: PLR2004 - what fits \x..
