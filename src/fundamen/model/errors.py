"""Define the errors: one tree of exceptions, each in three parts.

A missing or damaged component is a result and never an exception; an exception says that we could not find out.
"""

from typing import ClassVar, Self

from fundamen.messages import as_said


class FundamenError(Exception):
    """Something could not be done.

    Attributes:
        code: which kind of error it is, for scripts; it stays the same.
        what: what could not be done, and to which thing.
        why: what was found where, against what was expected.
        do: the next step for the technician.
    """

    code: ClassVar[str] = "error"

    def __init__(self, what: str, why: str, do: str) -> None:
        super().__init__(f"{what}: {why}")
        self.what, self.why, self.do = as_said(what), as_said(why), as_said(do)

    def __reduce__(self) -> tuple[type[Self], tuple[str, ...]]:
        """How it is handed over between processes."""
        return type(self), (self.what, self.why, self.do)


class UsageError(FundamenError):
    """The command was given something that does not fit together."""

    code = "usage"


class UnreadableError(FundamenError):
    """An input is not there, may not be read, or is not what it was taken for."""

    code = "unreadable"


class NotExecutableError(UnreadableError):
    """A file could be read, but is neither program nor library."""

    code = "not-executable"


class DamagedFileError(UnreadableError):
    """A file breaks the rules of its own format."""

    code = "damaged"


class CutFileError(DamagedFileError):
    """A file ends before something that it says it holds."""

    code = "truncated"


class InternalError(UnreadableError):
    """A bug of ours stopped the examination of one input. The other inputs are examined.

    Attributes:
        details: the traceback.
    """

    code = "internal"

    def __init__(self, what: str, why: str, do: str, details: str = "") -> None:
        super().__init__(what, why, do)
        self.details = details

    def __reduce__(self) -> tuple[type[Self], tuple[str, ...]]:
        """How it is handed over between processes."""
        return type(self), (self.what, self.why, self.do, self.details)


class UntrustedError(FundamenError):
    """A proof of origin or integrity failed, so nothing was believed."""

    code = "untrusted"


class RestorationError(FundamenError):
    """A restoration could not be performed; what had been changed was undone."""

    code = "undone"


class UnfinishedError(FundamenError):
    """An earlier restoration is not finished, or another is under way."""

    code = "unfinished"
