"""Compare versions, and read ranges of them.

Two versions that are nothing but numbers and dots are compared number by number, what is left out being 0. All others
are compared as Debian compares them. Source: deb-version(7), "Sorting algorithm".
"""

import re
from itertools import zip_longest

import msgspec

from fundamen.formats.decimal import read_decimal
from fundamen.messages import UNSAID, Message, say

_NUMBERS = re.compile(r"[0-9]{1,18}(?:\.[0-9]{1,18}){0,15}")
_CLAUSE = re.compile(r"\s*(>=|<=|!=|==?|>|<)\s*([0-9A-Za-z.+:~_-]{1,100})\s*")
_PIECES = re.compile(r"([^0-9]*)([0-9]*)")
_MOST_CLAUSES = 16


class Clause(msgspec.Struct, frozen=True):
    """One bound of a range."""

    operator: str
    version: str

    def holds(self, version: str) -> bool:
        """Whether a version is within it; its epoch counts only where the bound names one."""
        order = compare(version if ":" in self.version else version.rpartition(":")[2], self.version)
        match self.operator:
            case ">=":
                return order >= 0
            case "<=":
                return order <= 0
            case ">":
                return order > 0
            case "<":
                return order < 0
            case "!=":
                return order != 0
            case _:
                return order == 0


def read_range(text: str) -> tuple[Clause, ...]:
    """The bounds of a range, such as ``>= 2.1, < 3``; a version alone means that one, as after ``=`` or ``==``.

    Raises:
        ValueError: it is none, or no version could ever be in it; with the reason.
    """
    parts = text.split(",")
    if len(parts) > _MOST_CLAUSES:
        raise ValueError(say("formats.it-has-more-than-bounds", most_clauses=_MOST_CLAUSES))
    clauses = []
    for part in parts:
        written = part if part.strip()[:1] in {"<", ">", "=", "!"} else f"= {part}"
        found = _CLAUSE.fullmatch(written)
        if found is None:
            raise ValueError(say("formats.is-no-bound-such-as-2", part=part.strip()))
        clauses.append(Clause("=" if found[1] == "==" else found[1], found[2]))
    if any(_exclude_each_other(one, other) for one in clauses for other in clauses):
        raise ValueError(say("formats.no-version-is-in-it-its"))
    return tuple(clauses)


def problem_of_range(text: str) -> Message:
    """The fault of a range; empty where it has none, or none is given."""
    try:
        read_range(text or "1")
    except ValueError as error:
        return say("formats.the-range", text=text, error=error)
    return UNSAID


def is_in(version: str, wanted: str) -> bool:
    """Whether a version is in a range. Raises: ValueError: the range is none."""
    return all(clause.holds(version) for clause in read_range(wanted))


def compare(one: str, other: str) -> int:
    """Negative, 0 or positive, as one version comes before, is, or comes after another."""
    if _NUMBERS.fullmatch(one) and _NUMBERS.fullmatch(other):
        for left, right in zip_longest(map(int, one.split(".")), map(int, other.split(".")), fillvalue=0):
            if left != right:
                return left - right
        return 0
    left_parts, right_parts = _debian_parts(one), _debian_parts(other)
    return (
        left_parts[0] - right_parts[0]
        or _compare_parts(left_parts[1], right_parts[1])
        or _compare_parts(left_parts[2], right_parts[2])
    )


def _exclude_each_other(one: Clause, other: Clause) -> bool:
    """Whether no version is within both, one being a bound from below and the other from above."""
    if one.operator == "=" and other.operator == "!=":
        return compare(one.version, other.version) == 0
    if one.operator not in {">", ">=", "="} or other.operator not in {"<", "<=", "="}:
        return False
    order = compare(one.version, other.version)
    return order > 0 or (order == 0 and (one.operator == ">" or other.operator == "<"))


def _debian_parts(version: str) -> tuple[int, str, str]:
    """Epoch, version of the program, revision of the package."""
    epoch, colon, rest = version.partition(":")
    number = read_decimal(epoch) if colon else None
    if number is None:
        number, rest = 0, version
    upstream, _, revision = rest.rpartition("-")
    return (number, upstream, revision) if upstream else (number, rest, "")


def _compare_parts(one: str, other: str) -> int:
    for (left, left_digits), (right, right_digits) in zip_longest(
        _PIECES.findall(one), _PIECES.findall(other), fillvalue=("", "")
    ):
        for a, b in zip_longest(left, right, fillvalue=""):
            if (order := _weight(a) - _weight(b)) != 0:
                return order
        one_number, other_number = _magnitude(left_digits), _magnitude(right_digits)
        if one_number != other_number:
            return -1 if one_number < other_number else 1
    return 0


def _magnitude(digits: str) -> tuple[int, str]:
    """The sort key of a number of any length: its count of digits, then the digits."""
    significant = digits.lstrip("0")
    return len(significant), significant


def _weight(character: str) -> int:
    """``~`` before the end, letters before all else."""
    if character == "~":
        return -1
    if not character:
        return 0
    return ord(character) if character.isalpha() else ord(character) + 0x1_0000
