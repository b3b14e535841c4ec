"""Names that differ from another by characters that are easily misread: l, 1 and I; O and 0; rn and m; - and _."""

from collections.abc import Iterable

_LEAST_LETTERS = 7  # with the ending: "libsalt" and "so", or "salt" and "dll"
_ALIKE = str.maketrans({"1": "l", "I": "l", "|": "l", "0": "O", "_": "-"})


def find_near_misses(name: str, existing: Iterable[str]) -> tuple[str, ...]:
    """Those of the existing names that a person could take for this one; the name itself is none."""
    return Names(existing).near(name)


class Names:
    """Names among which others are looked up that are spelled much like them."""

    def __init__(self, names: Iterable[str]) -> None:
        """Order them by what those have in common that are alike."""
        self._folded: dict[str, set[str]] = {}
        self._by_half: dict[tuple[int, str, bool], list[str]] | None = None
        for name in names:
            self._folded.setdefault(_fold_name(name), set()).add(name)

    def near(self, name: str) -> tuple[str, ...]:
        """Those that a person could take for this one; the name itself is none."""
        return tuple(sorted(self._folded.get(_fold_name(name), set()) - {name}))

    def one_slip_apart(self, name: str) -> tuple[str, ...]:
        """Those that are one slip apart. A slip leaves either the first or the last third of a name as it is."""
        if self._by_half is None:
            self._by_half = {}
            for each in sorted(set[str]().union(*self._folded.values())):
                for key in _ends(each, len(each) // 3):
                    self._by_half.setdefault(key, []).append(each)
        found: dict[str, None] = {}
        for size in (len(name) - 1, len(name), len(name) + 1):
            for _, end, is_first in _ends(name, size // 3):
                found |= dict.fromkeys(self._by_half.get((size, end, is_first), ()))
        return tuple(each for each in found if is_one_slip_apart(name, each))


def _ends(name: str, count: int) -> tuple[tuple[int, str, bool], tuple[int, str, bool]]:
    """How a name begins and how it ends, so many letters of it, each with the name's length."""
    lowered = name.lower()
    return (len(name), lowered[:count], True), (len(name), lowered[len(name) - count :], False)


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


def _fold_name(name: str) -> str:
    """The form in which names that look alike are equal."""
    return name.translate(_ALIKE).replace("rn", "m")
