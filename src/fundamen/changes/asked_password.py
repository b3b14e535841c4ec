"""Who is asked for the password of a directory, once a step needs one."""

from collections.abc import Callable
from contextvars import ContextVar

Password = Callable[[str, str], str]  # (directory, name) -> the password; raises FundamenError where there is none

# Set by whoever can ask; without it a directory can be looked at only.
PASSWORD: ContextVar[Password | None] = ContextVar("password", default=None)
