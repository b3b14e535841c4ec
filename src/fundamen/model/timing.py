"""Say in the log how long something took."""

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def log_time(log: logging.Logger, what: str, *values: object) -> Iterator[None]:
    """Log that something begins, and how long it took once it has ended, with the error that ended it, if one did.

    Args:
        log: whose it is.
        what: is done, as a format of ``logging``.
        values: for the format.
    """
    if not log.isEnabledFor(logging.DEBUG):
        yield
        return
    done = what % values
    log.debug("%s", done)
    began = time.perf_counter()
    try:
        yield
    except BaseException as error:
        took = time.perf_counter() - began
        log.debug("%s: failed after %.3f s: %s: %s", done, took, type(error).__name__, error)
        raise
    log.debug("%s: done in %.3f s", done, time.perf_counter() - began)
