"""Run a command in bounded time, take what it writes, and end all that it has started.

Whatever a command starts carries a mark in its environment, by which it is found again.
"""

import contextlib
import os
import selectors
import signal
import subprocess
import time
import uuid
from collections.abc import Callable, Iterator, Mapping

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError

MOST_OUTPUT = 1 << 16  # bytes of what a program writes that are kept

_MARK = "FUNDAMEN_OBSERVATION"
_MOST_READ = 1 << 16  # bytes at a time
_MOST_SECONDS = 24 * 3600.0
_QUIET = 0.3  # seconds without output after the program's end
_MOST_ROUNDS = 50  # of looking for what was started: a program may start more while it is being ended


class Marked:
    """The processes of one observation."""

    def __init__(self, environment: Mapping[str, str]) -> None:
        """Begin, with the environment that it is run in."""
        self._mark = uuid.uuid4().hex
        self.environment = {**environment, _MARK: self._mark}

    def run(
        self,
        command: list[str],
        folder: str,
        seconds: float,
        take: Callable[[bytes], None],
        heed: Callable[[], None] = lambda: None,
    ) -> tuple[int | None, float]:
        """Run a command; give its status, None where its time was up, and the seconds that it took.

        Args:
            command: the words.
            folder: that it is run in.
            seconds: after which it is stopped.
            take: is given every piece of what it writes to its two streams.
            heed: is called several times a second while it runs.

        Raises:
            UnreadableError: it cannot be started.
        """
        start = time.monotonic()
        try:
            process = subprocess.Popen(
                command,
                cwd=folder,
                env=self.environment,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )
        except OSError as error:
            raise UnreadableError(
                what=say("trace.cannot-be-started", command=printable(command[0])),
                why=error.strerror or str(error),
                do=say("trace.trace-it-without-observe-what-it"),
            ) from error
        with process:
            for data in _read_until(process, start + seconds):
                take(data)
                heed()
            # The streams may be closed before the program ends, by the program itself or just as it ends.
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(max(0.0, start + seconds - time.monotonic()))
            took = time.monotonic() - start
            status = process.poll()
            if status is None:
                self.end(lambda _pid: signal.SIGKILL)
                process.wait()
            if process.stdout is not None:
                process.stdout.close()
        return status, took

    def end(self, by: Callable[[int], signal.Signals]) -> None:
        """Send every process that was started a signal, until none is left that must end by it."""
        for _ in range(_MOST_ROUNDS):
            signals = {pid: by(pid) for pid in self._processes()}
            for pid, sent in signals.items():
                with contextlib.suppress(OSError):
                    os.kill(pid, sent)
            if signal.SIGKILL not in signals.values():
                return
            time.sleep(0.02)

    def _processes(self) -> list[int]:
        """The processes that carry the mark in their environment, besides those that cannot be looked at."""
        found = []
        for pid in processes():
            with contextlib.suppress(OSError), open(f"/proc/{pid}/environ", "rb") as file:
                if f"{_MARK}={self._mark}".encode() in file.read().split(b"\0"):
                    found.append(pid)
        return found


def require_time(seconds: float) -> None:
    """Make sure that a run is given some time. Raises: UsageError: it is not, or more than a day."""
    if not 0 < seconds < _MOST_SECONDS:
        raise UsageError(
            what=say("trace.nothing-can-be-observed-in-s", seconds=seconds),
            why=say("trace.the-time-must-be-more-than", most_seconds=_MOST_SECONDS),
            do=say("trace.write-it-as-for-example-observe"),
        )


def processes() -> list[int]:
    """The numbers of all processes of this host but this one."""
    return [int(name) for name in os.listdir("/proc") if name.isdecimal() and int(name) != os.getpid()]


def _read_until(process: subprocess.Popen[bytes], deadline: float) -> Iterator[bytes]:
    """The data that comes through the pipe until the program has ended and is quiet, or its time is up.

    Services that the program's start has brought up hold the pipe open after its end.
    """
    assert process.stdout is not None  # noqa: S101 - it is a pipe
    quiet_since = time.monotonic()
    with selectors.DefaultSelector() as selector:
        selector.register(process.stdout, selectors.EVENT_READ)
        while (now := time.monotonic()) < deadline:
            if selector.select(min(0.1, deadline - now)):
                data = os.read(process.stdout.fileno(), _MOST_READ)
                if not data:
                    return
                quiet_since = time.monotonic()
                yield data
            elif process.poll() is None:
                quiet_since = time.monotonic()
                yield b""
            elif time.monotonic() - quiet_since > _QUIET:
                return
