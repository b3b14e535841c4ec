"""Ask for a message by its code, whatever its words are."""

import re

from fundamen.messages import template

_HOLE = re.compile(r"\{[^{}]*\}")


def says(text: str, code: str, **values: object) -> bool:
    """Whether a text has the message of a code in it, with these values and whatever others."""
    parts = _HOLE.split(template(code))
    names = [hole[1:-1].partition(":")[0].partition("!")[0] for hole in _HOLE.findall(template(code))]
    pattern = re.escape(" ".join(parts[0].split(" ")))
    for name, part in zip(names, parts[1:], strict=True):
        pattern += re.escape(str(values[name])) if name in values else ".*?"
        pattern += re.escape(part)
    return re.search(pattern, " ".join(text.split())) is not None
