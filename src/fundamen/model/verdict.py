"""Verdicts on the components that a program needs."""

from enum import StrEnum


class Verdict(StrEnum):
    """Verdicts on a component. Each word is shown to technicians and is part of the JSON contract."""

    VERIFIED = "verified"  # found, and its bytes are those that its owner or a trusted source records
    UNVERIFIED = "unverified"  # found and intact in form, but no owner and no trusted source knows its bytes
    MISSING = "missing"
    WRONG_ARCHITECTURE = "wrong-architecture"
    CORRUPT = "corrupt"
    OUTDATED = "outdated"
    UNTRUSTED = "untrusted"
    SHADOWED = "shadowed"
    BLOCKED = "blocked"  # there, but unreadable, disabled or withheld

    @property
    def is_fault(self) -> bool:
        """Whether a program that needs this component is harmed."""
        return self is not Verdict.VERIFIED and self is not Verdict.UNVERIFIED
