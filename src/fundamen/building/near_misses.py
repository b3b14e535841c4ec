"""Names that differ from another by characters that are easily misread: l, 1 and I; O and 0; rn and m; - and _."""

from collections.abc import Iterable

_ALIKE = str.maketrans({"1": "l", "I": "l", "|": "l", "0": "O", "_": "-"})


def find_near_misses(name: str, existing: Iterable[str]) -> tuple[str, ...]:
    """Those of the existing names that a person could take for this one; the name itself is none."""
    folded = _folded(name)
    return tuple(sorted({other for other in existing if other != name and _folded(other) == folded}))


def _folded(name: str) -> str:
    """The form in which names that look alike are equal."""
    return name.translate(_ALIKE).replace("rn", "m")
