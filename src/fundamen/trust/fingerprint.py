"""SHA-256 fingerprints as people read them out and type them."""

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
            what="The fingerprint cannot be used",
            why=f"a SHA-256 fingerprint has 64 hexadecimal digits, and this has {len(digits)} characters",
            do="Ask for it to be read out again, all 16 groups of four.",
        )
    return digits
