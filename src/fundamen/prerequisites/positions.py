"""Where in a TOML text a key stands, so that a message can point to it.

The text has been read as TOML before, so its form is right; only where things stand is looked for here.
"""

import re
from collections.abc import Iterator

_HEADER = re.compile(r"^[ \t]*(\[\[?)([^\[\]\n]*)\]", re.MULTILINE)


def find_position(text: str, table: str, index: int | None, key: str = "") -> tuple[int, int]:
    """(line, column) of a key, from 1; of its table's header where the key stands nowhere in it.

    Args:
        text: the TOML text.
        table: the table's name; empty for the top of the text.
        index: which of several tables of this name, from 0; None where there is one.
        key: in the table; empty for the header itself.
    """
    headers = list(_headers(text))
    begin, end, header = 0, headers[0].start() if headers else len(text), 0
    if table:
        own = [at for at, found in enumerate(headers) if _name(found) == table]
        at = own[index or 0] if len(own) > (index or 0) else None
        if at is None:
            return 1, 1
        header = headers[at].start(1)
        begin = headers[at].end()
        inner = f"{table}."
        following = (found for found in headers[at + 1 :] if not _name(found).startswith(inner))
        end = next((found.start() for found in following), len(text))
    if key:
        found = re.compile(rf"""^[ \t]*(["']?{re.escape(key)}["']?)[ \t]*[=.]""", re.MULTILINE).search(text, begin, end)
        if found is not None:
            return _line_and_column(text, found.start(1))
    return _line_and_column(text, header)


def _line_and_column(text: str, at: int) -> tuple[int, int]:
    return text.count("\n", 0, at) + 1, at - (text.rfind("\n", 0, at) + 1) + 1


def _headers(text: str) -> Iterator[re.Match[str]]:
    """The headers of all tables, without what looks like one in a string of several lines."""
    counted, quotes = 0, {'"""': 0, "'''": 0}
    for found in _HEADER.finditer(text):
        for mark in quotes:
            quotes[mark] += text.count(mark, counted, found.start())
        counted = found.start()
        if not any(count % 2 for count in quotes.values()):
            yield found


def _name(header: re.Match[str]) -> str:
    return header[2].strip("\"' \t")
