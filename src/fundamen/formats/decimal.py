"""Whole numbers in texts that come from outside."""

_MOST_DIGITS = 18  # so that every number fits 64 bits; the interpreter refuses to read thousands of digits


def read_decimal(text: str) -> int | None:
    """A number of at most 18 digits from 0 to 9; None for any other text, such as one with digits of other scripts."""
    return int(text) if len(text) <= _MOST_DIGITS and text.isascii() and text.isdigit() else None
