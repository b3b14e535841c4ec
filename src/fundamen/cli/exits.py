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
    TAKEN_BACK = 5  # a restoration failed and was taken back
    UNFINISHED = 6  # an unfinished restoration must be resumed or undone first
    BUG = 70  # a fault of Fundamen's own (EX_SOFTWARE of sysexits.h)
    INTERRUPTED = 130  # stopped from the keyboard, as shells count it


BY_ERROR: dict[type[FundamenError], Exit] = {
    UsageError: Exit.WRONG_USAGE,
    InternalError: Exit.BUG,
    UnreadableError: Exit.UNREADABLE_INPUT,
    UntrustedError: Exit.REFUSED,
    RestorationError: Exit.TAKEN_BACK,
    UnfinishedError: Exit.UNFINISHED,
}


def exit_of(error: FundamenError) -> Exit:
    """The exit status that an error ends the run with: that of the nearest class in the table."""
    return next(BY_ERROR[kind] for kind in type(error).__mro__ if kind in BY_ERROR)
