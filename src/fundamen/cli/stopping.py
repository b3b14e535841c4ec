"""Ctrl-C while a machine is changed: the first one stops cleanly after the step, the second one at once."""

import contextlib
import signal
import threading
from collections.abc import Callable, Iterator
from types import FrameType

from fundamen.cli.output import Output


@contextlib.contextmanager
def stoppable(output: Output) -> Iterator[Callable[[], bool]]:
    """Give a function that tells whether someone has asked to stop."""
    asked = threading.Event()
    if threading.current_thread() is not threading.main_thread():  # only there signals arrive
        yield asked.is_set
        return

    def ask(_number: int, _frame: FrameType | None) -> None:
        if asked.is_set():
            raise KeyboardInterrupt
        asked.set()
        output.note("Stopping as soon as the step is done; once more stops at once.")

    before = signal.signal(signal.SIGINT, ask)
    try:
        yield asked.is_set
    finally:
        signal.signal(signal.SIGINT, before)
