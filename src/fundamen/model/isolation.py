"""Examine many inputs so that a failure in one leaves the others unharmed."""

from typing import Self

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, InternalError, UnreadableError


class Isolated:
    """The examination of one of many inputs, as a context.

    An unexpected exception leaves it as that input's own error, and the caller continues with the next input: an
    InternalError for a bug of ours, an UnreadableError for what the operating system refused. A closed output
    (BrokenPipeError) and Ctrl-C concern the whole run, and pass unchanged.
    """

    def __init__(self, subject: str) -> None:
        """Begin. The subject is what is examined, for messages."""
        self._subject = subject

    def __enter__(self) -> Self:
        return self

    def __exit__(self, _type: type[BaseException] | None, error: BaseException | None, _trace: object) -> None:
        match error:
            case FundamenError() | BrokenPipeError():
                return
            case OSError():
                raise UnreadableError(
                    what=say("model.cannot-be-examined", subject=printable(self._subject)),
                    why=f"{printable(str(error.filename or 'the system says'))}: {error.strerror or error}",
                    do=say("model.see-that-it-is-there-and"),
                ) from error
            case Exception():
                raise internal_error(self._subject, error) from error


def internal_error(subject: str, error: Exception) -> InternalError:
    """The error for an input whose examination ran into a bug of ours, with all that is needed to find the bug."""
    import traceback  # noqa: PLC0415 - no part of a run that goes well

    return InternalError(
        what=say("model.could-not-be-examined", subject=printable(subject)),
        why=say("model.fundamen-has-a-bug", error_class=type(error).__name__, error=printable(str(error))),
        do=say("model.send-in-the-bug-file-that"),
        details="".join(traceback.format_exception(error)),
    )
