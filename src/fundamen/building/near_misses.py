"""Names that differ from another by characters that are easily misread: l, 1 and I; O and 0; rn and m; - and _."""

from collections.abc import Iterable

_LEAST_LETTERS = 7  # with the ending: "libsalt" and "so", or "salt" and "dll"
_ALIKE = str.maketrans({"1": "l", "I": "l", "|": "l", "0": "O", "_": "-"})


def find_near_misses(name: str, existing: Iterable[str]) -> tuple[str, ...]:
    """Those of the existing names that a person could take for this one; the name itself is none."""
    folded = _folded(name)
    return tuple(sorted({other for other in existing if other != name and _folded(other) == folded}))


def is_one_slip_apart(name: str, other: str, least: int = _LEAST_LETTERS) -> bool:
    """Whether one letter was left out, added, mistaken, or changed places with the next; digits are never mistaken.

    Args:
        name: one name.
        other: another.
        least: letters; shorter names, as version numbers do, differ for a reason.
    """
    name, other = name.lower(), other.lower()
    if name == other or abs(len(name) - len(other)) > 1:
        return False
    at = next((i for i, (a, b) in enumerate(zip(name, other, strict=False)) if a != b), min(len(name), len(other)))
    slips = (name[at : at + 1], other[at : at + 1])
    if any(slip and not slip.isalpha() for slip in slips) or sum(map(str.isalpha, name)) < least:
        return False
    a, b = name[at:], other[at:]
    return a[1:] == b[1:] or a[1:] == b or a == b[1:] or (a[1:2] + a[:1] == b[:2] and a[2:] == b[2:])


def _folded(name: str) -> str:
    """The form in which names that look alike are equal."""
    return name.translate(_ALIKE).replace("rn", "m")
