"""Compare values with the demands that settings, variables, limits and others share."""

import re
from collections.abc import Iterator

import msgspec

from fundamen.formats.settings.setting import Plain
from fundamen.formats.versions import is_in, problem_of_range
from fundamen.messages import UNSAID, Message, join_clauses, say
from fundamen.prerequisites.answer import Answer, met_if, unmet
from fundamen.prerequisites.requirement import Name, Requirement, Text

Amount = int | float | str  # a number, or one with a unit, such as "128M"

_AMOUNT = re.compile(r"\s*(-?\d{1,19}(?:\.\d{1,9})?)\s*([kmgt]?)(?:i?b|b)?\s*", re.IGNORECASE)
_UNITS = {"": 1, "k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "t": 1 << 40}
_ON = {"on", "yes", "true", "1", "enabled"}
_OFF = {"off", "no", "false", "0", "disabled", "none", ""}
_UNLIMITED = {"unlimited", "infinity"}
_LONGEST = 120  # characters of a value that are shown


class Compared(Requirement, frozen=True, kw_only=True):
    """A requirement of a value: all that is given of these must hold."""

    equals: Plain | msgspec.UnsetType = msgspec.UNSET
    differs_from: Plain | msgspec.UnsetType = msgspec.UNSET
    one_of: tuple[Plain, ...] = ()
    at_least: Amount | None = None
    at_most: Amount | None = None
    has: tuple[Name, ...] = ()  # entries of a list
    lacks: tuple[Name, ...] = ()
    separator: Text = ","  # of the list
    version: Text = ""  # a range, such as ">= 2.1, < 3"
    absent: bool = False  # it must not be there at all

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return join_clauses(UNSAID, *self._problems())

    def _problems(self) -> Iterator[Message]:
        bounds = [bound for bound in (self.at_least, self.at_most) if bound is not None]
        amounts = [amount for bound in bounds if (amount := amount_of(bound)) is not None]
        if len(amounts) < len(bounds):
            yield say("prerequisites.a-bound-is-neither-a-number")
        elif amounts != sorted(amounts):
            yield say("prerequisites.no-value-is-at-least-and", at_least=self.at_least, at_most=self.at_most)
        if not self.separator:
            yield say("prerequisites.the-separator-is-empty")
        if problem := problem_of_range(self.version):
            yield problem

    @property
    def in_words(self) -> str:
        """The demand in words."""
        if self.absent:
            return say("prerequisites.is-not-there")
        parts = [
            say("prerequisites.is", value=_value_text(self.equals)) if self.equals is not msgspec.UNSET else "",
            say("prerequisites.is-not", value=_value_text(self.differs_from))
            if self.differs_from is not msgspec.UNSET
            else "",
            say("prerequisites.is-one-of", names=", ".join(map(_value_text, self.one_of))) if self.one_of else "",
            say("prerequisites.is-at-least", at_least=self.at_least) if self.at_least is not None else "",
            say("prerequisites.is-at-most", at_most=self.at_most) if self.at_most is not None else "",
            say("prerequisites.has", has=", ".join(self.has)) if self.has else "",
            say("prerequisites.is-without", lacks=", ".join(self.lacks)) if self.lacks else "",
            say("prerequisites.is-a-version", version=self.version) if self.version else "",
        ]
        return " and ".join(filter(None, parts)) or "is there"

    def judge(self, value: Plain | msgspec.UnsetType) -> Answer:
        """The answer for a value as it was found; UNSET, where there is none."""
        if value is msgspec.UNSET:
            return met_if(self.absent, say("prerequisites.it-is-not-there"))
        found = say("prerequisites.it-is", value=_value_text(value))
        if self.absent:
            return unmet(found)
        return met_if(self._holds(value), found)

    def _holds(self, value: Plain | msgspec.UnsetType) -> bool:
        entries = [entry.strip() for entry in str(value).split(self.separator)]
        amount = amount_of(value) if self.at_least is not None or self.at_most is not None else None
        return all(
            (
                self.equals is msgspec.UNSET or is_same(value, self.equals),
                self.differs_from is msgspec.UNSET or not is_same(value, self.differs_from),
                not self.one_of or any(is_same(value, each) for each in self.one_of),
                self.at_least is None or (amount is not None and amount >= (amount_of(self.at_least) or 0)),
                self.at_most is None or (amount is not None and amount <= (amount_of(self.at_most) or 0)),
                all(entry in entries for entry in self.has),
                not any(entry in entries for entry in self.lacks),
                not self.version or is_in(str(value), self.version),
            )
        )


def amount_of(value: Plain | msgspec.UnsetType) -> float | None:
    """A number, or a size with a unit, in ones or bytes; None where it is neither. Units go by 1024."""
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        return None
    if not isinstance(value, str):
        return float(value)
    if value.strip().lower() in _UNLIMITED:
        return float("inf")
    found = _AMOUNT.fullmatch(value)
    return float(found[1]) * _UNITS[found[2].lower()] if found else None


def is_same(value: Plain | msgspec.UnsetType, wanted: Plain | msgspec.UnsetType) -> bool:
    """Whether two values mean the same: On, yes, 1 and true do; so do 128M and 134217728."""
    if isinstance(wanted, bool):
        return str(value).strip().lower() in (_ON if wanted else _OFF)
    if value == wanted or str(value) == str(wanted):
        return True
    left, right = amount_of(value), amount_of(wanted)
    return left is not None and left == right


def _value_text(value: object) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    text = "empty" if value in {None, ""} else str(value)
    return text if len(text) <= _LONGEST else text[:_LONGEST] + "..."
