"""How a need stands."""

from enum import StrEnum


class Verdict(StrEnum):
    """How a need stands. Each word is shown to technicians and is part of the JSON contract."""

    SOUND = "sound"  # resolved, and somebody who can know vouches for the bytes
    UNPROVEN = "unproven"  # resolved and intact in form, but vouched for by nobody
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
        return self is not Verdict.SOUND and self is not Verdict.UNPROVEN
