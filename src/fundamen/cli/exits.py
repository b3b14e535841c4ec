"""The exit statuses, in one table."""

from enum import IntEnum

from fundamen.model.errors import (
    FundamenError,
    InternalError,
    RestorationError,
    UnfinishedError,
    UnreadableError,
    UntrustedError,
    UsageError,
)


class Exit(IntEnum):
    """Exit statuses of a finished run."""

    NOTHING_AT_FAULT = 0
    FAULT_FOUND = 1  # or remains
    WRONG_USAGE = 2
    UNREADABLE_INPUT = 3
    REFUSED = 4  # trust could not be proven
    UNDONE = 5  # a restoration failed and was undone
    UNFINISHED = 6  # an unfinished restoration must be resumed or undone first
    BUG = 70  # a fault of Fundamen's own (EX_SOFTWARE of sysexits.h)
    INTERRUPTED = 130  # stopped from the keyboard, as shells count it

    @property
    def meaning(self) -> str:
        """The meaning, for the reference."""
        return _MEANINGS[self]


_MEANINGS = {
    Exit.NOTHING_AT_FAULT: "no fault was found, or the work was done",
    Exit.FAULT_FOUND: "a fault was found, or remains",
    Exit.WRONG_USAGE: "the command was used in a wrong way; nothing was done",
    Exit.UNREADABLE_INPUT: "an input cannot be read",
    Exit.REFUSED: "it was refused, because trust could not be proven",
    Exit.UNDONE: "a restoration failed, and was undone",
    Exit.UNFINISHED: "a restoration is unfinished: resume or undo it first",
    Exit.BUG: "a bug of Fundamen; the other inputs are answered",
    Exit.INTERRUPTED: "it was stopped from the keyboard",
}


BY_ERROR: dict[type[FundamenError], Exit] = {
    UsageError: Exit.WRONG_USAGE,
    InternalError: Exit.BUG,
    UnreadableError: Exit.UNREADABLE_INPUT,
    UntrustedError: Exit.REFUSED,
    RestorationError: Exit.UNDONE,
    UnfinishedError: Exit.UNFINISHED,
}


def exit_of(error: FundamenError) -> Exit:
    """The exit status that an error ends the run with: that of the nearest class in the table."""
    return next(BY_ERROR[kind] for kind in type(error).__mro__ if kind in BY_ERROR)
