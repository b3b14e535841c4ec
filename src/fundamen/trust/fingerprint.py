"""SHA-256 fingerprints as people read them out and type them."""

from fundamen.messages import say
from fundamen.model.errors import UsageError

_DIGITS = 64


def group_digits(fingerprint: str) -> str:
    """A fingerprint in groups of four, as it is read out over the telephone."""
    return " ".join(fingerprint[at : at + 4] for at in range(0, len(fingerprint), 4))


def read_fingerprint(typed: str) -> str:
    """The fingerprint from its typed form, as 64 lower-case hexadecimal digits.

    Raises:
        UsageError: it has not the form of one.
    """
    digits = "".join(typed.split()).replace(":", "").replace("-", "").lower()
    if len(digits) != _DIGITS or set(digits) - set("0123456789abcdef"):
        raise UsageError(
            what=say("trust.the-fingerprint-cannot-be-used"),
            why=say("trust.a-sha-256-fingerprint-has-64", count=len(digits)),
            do=say("trust.ask-for-it-to-be-read"),
        )
    return digits
