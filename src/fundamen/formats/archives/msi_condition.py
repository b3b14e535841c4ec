"""Evaluate the conditions of install packages, as far as all that they ask about is known.

Source: Windows Installer reference, "Conditional Statement Syntax": operators, their precedence, and the rule that a
number and a text which is none are unequal, and compare as false otherwise; how the open implementation of the service,
which a prefix has, compares symbols. What is not known makes a condition
unknown, unless it does not depend on that (three-valued logic after Kleene).
"""

import re
from collections.abc import Callable

import msgspec

from fundamen.messages import say

_TOKEN = re.compile(
    r"""\s*(?:
    (?P<text>"[^"]*")
    | (?P<number>-?\d{1,12}(?![\w.]))
    | (?P<symbol>[%$?&!]?[A-Za-z_][A-Za-z0-9_.]*)
    | (?P<operator>~?(?:<>|<=|>=|><|<<|>>|=|<|>))
    | (?P<mark>[()])
    )""",
    re.VERBOSE,
)
_MOST_TOKENS, _DEEPEST = 2_000, 60


def _not(held: bool | None) -> bool | None:  # noqa: FBT001 - a value of the logic
    return None if held is None else not held


def _or(one: bool | None, other: bool | None) -> bool | None:  # noqa: FBT001 - values of the logic
    if one or other:
        return True
    return None if one is None or other is None else False


# The logical operators that stand between two terms, the one that binds least first.
_LOGICAL: tuple[tuple[str, Callable[["bool | None", "bool | None"], "bool | None"]], ...] = (
    ("IMP", lambda one, other: _or(_not(one), other)),
    ("EQV", lambda one, other: None if one is None or other is None else one == other),
    ("XOR", lambda one, other: None if one is None or other is None else one != other),
    ("OR", _or),
    ("AND", lambda one, other: _not(_or(_not(one), _not(other)))),
)
_WORDS = {"NOT", *(word for word, _ in _LOGICAL)}
_WORD = 0xFFFF
_MOST_NUMBER = 0x7FFF_FFFF

Value = str | int | None  # None: it is not known


class Evaluated(msgspec.Struct, frozen=True):
    """The value of a condition."""

    holds: bool | None  # None: it is not known
    asked: tuple[tuple[str, Value], ...]  # each symbol with its value, in the order in which they stand


def evaluate(text: str, look_up: Callable[[str], Value]) -> Evaluated:
    """The value of a condition; an empty one is true.

    Args:
        text: the condition.
        look_up: the value of a symbol, which is a property's name, or one with ``%``, ``$``, ``?``, ``&`` or ``!`` in
            front (environment variable, states of components and features); empty where there is none of this name.

    Raises:
        ValueError: it is not written as conditions are; with the reason.
    """
    if not text.strip():
        return Evaluated(holds=True, asked=())
    parser = _Parser(text, look_up)
    holds = parser.expression(0)
    parser.require_end()
    return Evaluated(holds, tuple(parser.asked.items()))


class _Parser:
    def __init__(self, text: str, look_up: Callable[[str], Value]) -> None:
        self._tokens = _tokens(text)
        self._at = 0
        self._depth = 0
        self._look_up = look_up
        self.asked: dict[str, Value] = {}

    def require_end(self) -> None:
        if self._at < len(self._tokens):
            raise ValueError(say("formats.follows-where-it-should-end", tokens=self._tokens[self._at][1]))

    def expression(self, level: int) -> bool | None:
        """Terms between operators that bind at least as much as those of a level."""
        if level == len(_LOGICAL):
            return self._read_negation()
        word, combine = _LOGICAL[level]
        left = self.expression(level + 1)
        while self._takes("symbol", word):
            left = combine(left, self.expression(level + 1))
        return left

    def _read_negation(self) -> bool | None:
        negations = 0
        while self._takes("symbol", "NOT"):
            negations += 1
        held = self._term()
        return _not(held) if negations % 2 else held

    def _term(self) -> bool | None:
        if self._takes("mark", "("):
            self._depth += 1
            if self._depth > _DEEPEST:
                raise ValueError(say("formats.its-brackets-are-more-than-deep", deepest=_DEEPEST))
            held = self.expression(0)
            if not self._takes("mark", ")"):
                raise ValueError(say("formats.a-bracket-is-not-closed"))
            self._depth -= 1
            return held
        left, kind = self._value()
        if self._at < len(self._tokens) and self._tokens[self._at][0] == "operator":
            operator = self._tokens[self._at][1]
            self._at += 1
            right, other_kind = self._value()
            if left is None or right is None:
                return None
            return _compare(left, right, operator, {kind, other_kind})
        return None if left is None else left != 0 if kind == "number" else left != ""

    def _value(self) -> tuple[Value, str]:
        """(a value, what is written: a number, a text, or a symbol that stands for one)."""
        if self._at == len(self._tokens):
            raise ValueError(say("formats.it-ends-where-a-value-should"))
        kind, text = self._tokens[self._at]
        self._at += 1
        if kind == "text":
            return text[1:-1], kind
        if kind == "number":
            if (number := _number(text)) is None:
                raise ValueError(say("formats.the-number-is-larger-than-any", text=text))
            return number, kind
        if kind != "symbol" or text.upper() in _WORDS:
            raise ValueError(say("formats.is-in-the-place-of-a", text=text))
        self.asked[text] = value = self._look_up(text)
        return value, "number" if isinstance(value, int) else kind

    def _takes(self, kind: str, word: str) -> bool:
        is_next = self._at < len(self._tokens) and self._tokens[self._at][0] == kind
        if is_next and self._tokens[self._at][1].upper() == word:
            self._at += 1
            return True
        return False


def _tokens(text: str) -> list[tuple[str, str]]:
    tokens, at, end = [], 0, len(text.rstrip())
    while at < end:
        found = _TOKEN.match(text, at)
        if found is None or found.lastgroup is None:
            raise ValueError(say("formats.is-no-part-of-a-condition", text=text[at : at + 20]))
        tokens.append((found.lastgroup, found[found.lastgroup]))
        at = found.end()
        if len(tokens) > _MOST_TOKENS:
            raise ValueError(say("formats.it-has-more-than-parts", most_tokens=_MOST_TOKENS))
    return tokens


def _compare(left: str | int, right: str | int, operator: str, kinds: set[str]) -> bool:
    """Whether a comparison holds: as numbers, where a symbol is on one side at least and both sides are numbers."""
    one, other = _number(left), _number(right)
    if "number" in kinds and ("text" in kinds or one is None or other is None):
        return operator.endswith("<>")
    if one is not None and other is not None and kinds != {"text"}:
        return _compare_numbers(one, other, operator.removeprefix("~"))
    if operator.startswith("~"):
        return _compare_texts(str(left).lower(), str(right).lower(), operator[1:])
    return _compare_texts(str(left), str(right), operator)


def _number(value: str | int) -> int | None:
    if isinstance(value, int):
        return value
    found = re.fullmatch(r"-?\d{1,12}", value.strip())
    number = int(value) if found else None
    return number if number is not None and abs(number) <= _MOST_NUMBER else None


def _compare_numbers(one: int, other: int, operator: str) -> bool:
    match operator:
        case "><":
            return bool(one & other)
        case "<<":
            return (one >> 16) & _WORD == other
        case ">>":
            return one & _WORD == other
        case _:
            return _in_order(one, other, operator)


def _compare_texts(one: str, other: str, operator: str) -> bool:
    match operator:
        case "><":
            return other in one
        case "<<":
            return one.startswith(other)
        case ">>":
            return one.endswith(other)
        case _:
            return _in_order((one > other) - (one < other), 0, operator)


def _in_order(one: int, other: int, operator: str) -> bool:
    return {
        "=": one == other,
        "<>": one != other,
        "<": one < other,
        ">": one > other,
        "<=": one <= other,
        ">=": one >= other,
    }[operator]
