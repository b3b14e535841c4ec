"""Show text from files, names and servers so that nothing in it acts, hides or reverses.

Each sink (terminal, page, JSON, figure, table) filters all that goes into it once, at its end; so nothing gets by that
someone forgot on the way. Sources: Unicode 15, General Category Cc, Cf, Cs, Co, Cn, Zl, Zp, Zs; UTS #39, "Confusable
Detection", for what has a category of its own and shows nothing; ECMA-48, SGR.
"""

import re

# Letters, marks and symbols that show nothing.
_INVISIBLE = re.compile(
    "[\u034f\u115f\u1160\u17b4\u17b5\u180b-\u180d\u180f\u2800\u3164\ufe00-\ufe0f\uffa0\U000e0100-\U000e01ef]"
)
_STYLE = re.compile("(\x1b\\[[0-9;]*m)")  # bold and colour, which only we set
_KEPT = str.maketrans("", "", "\n\t")
_FIRST_PLANE = 0x10000


def printable(text: str) -> str:
    r"""Give text that is safe to print: what is not visible, and undecodable bytes, as ``\x..`` or ``\u....``."""
    if text.isprintable() and (text.isascii() or _INVISIBLE.search(text) is None):
        return text
    return "".join(_shown_character(c) for c in text)


def shown_lines(text: str) -> str:
    """The same for a text of many lines: line ends and tabs stay."""
    plain = text.translate(_KEPT)
    if printable(plain) is plain:
        return text
    return "".join(c if c in "\n\t" else _shown_character(c) for c in text)


def shown_page(text: str) -> str:
    """The same for a page with the styles that we have set."""
    if "\x1b" not in text:
        return shown_lines(text)
    return "".join(part if number % 2 else shown_lines(part) for number, part in enumerate(_STYLE.split(text)))


def shown_json(text: str) -> str:
    r"""Encoded JSON with invisible characters as JSON escapes; a reader decodes the same text."""
    if text.isascii() and "\x7f" not in text:
        return text
    if text.translate(_KEPT).isprintable() and _INVISIBLE.search(text) is None:
        return text
    return "".join(c if c in "\n\t" or _is_visible(c) else _json_escape(c) for c in text)


def _is_visible(c: str) -> bool:
    return c.isprintable() and _INVISIBLE.match(c) is None


def _shown_character(c: str) -> str:
    if "\udc80" <= c <= "\udcff":  # a surrogate escape stands for one byte
        return f"\\x{ord(c) - 0xDC00:02x}"
    if _is_visible(c):
        return c
    return f"\\x{ord(c):02x}" if ord(c) < 0x100 else f"\\u{ord(c):04x}"  # noqa: PLR2004 - what fits \x..


def _json_escape(c: str) -> str:
    """Source: RFC 8259, section 7."""
    if ord(c) < _FIRST_PLANE:
        return f"\\u{ord(c):04x}"
    high, low = divmod(ord(c) - _FIRST_PLANE, 0x400)
    return f"\\u{0xD800 + high:04x}\\u{0xDC00 + low:04x}"
