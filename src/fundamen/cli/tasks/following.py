"""Follow logs until something ends it: a line, a file, a process, the time, or the technician."""

import os
import sys
import time
from collections.abc import Callable, Sequence

import msgspec

from fundamen.cli.output import Output
from fundamen.clues.advice import means_of
from fundamen.clues.findings import Finding
from fundamen.clues.following import FollowedLog, is_called_out
from fundamen.clues.reading import Reader, Reading
from fundamen.clues.scanning import Scanner
from fundamen.knowledge.entries import Knowledge
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError

_PAUSE = 0.1  # seconds between two looks
_PLATFORM: str = sys.platform


class Until(msgspec.Struct, frozen=True, kw_only=True):
    """Conditions that end the following; those that are not given do not count."""

    text: str = ""  # that a line has
    file: str = ""  # that comes into being
    process: int = 0  # that ends
    seconds: float = 0

    def check(self) -> None:
        """Make sure that it can be waited for. Raises: UsageError: it cannot."""
        if self.process and _PLATFORM == "win32":
            raise UsageError(
                what=say("cli.the-end-of-a-process-cannot"),
                why=say("cli.on-windows-no-process-can-be"),
                do=say("cli.use-until-with-a-line-of"),
            )
        if self.process and not _is_running(self.process):
            raise UsageError(
                what=say("cli.process-cannot-be-waited-for", process=self.process),
                why=say("cli.there-is-no-such-process-or"),
                do=say("cli.look-its-number-up-again-ps"),
            )


def follow(
    known: Knowledge, scanner: Scanner, paths: Sequence[str], until: Until, output: Output, *, from_start: bool
) -> list[Reading]:
    """Follow logs, and call the decisive lines out as they come; give what all of them said, weighed.

    Raises:
        UnreadableError: a log is there and cannot be read.
        UsageError: what is to end it cannot be waited for.
    """
    until.check()
    logs = [FollowedLog(path, Reader(known, scanner, path), from_start=from_start) for path in paths]
    output.note(f"Following {', '.join(paths)}; Ctrl-C ends it with a summary.")
    ended: list[str] = []

    def heed(block: bytes) -> None:
        if until.text and until.text.encode("utf-8", "surrogateescape") in block:
            ended.append(f"the line {until.text!r} has come")

    begin = time.monotonic()
    try:
        while not ended:
            for log in logs:
                _call_out(output, log.path, _look(log, heed))
            ended += _what_ended(until, begin)
            if not ended:
                time.sleep(_PAUSE)
    except KeyboardInterrupt:
        ended.append("it was stopped")
    readings = []
    for log in logs:
        found, reading = log.finish()
        _call_out(output, log.path, found)
        readings.append(reading)
    output.note(f"Ended after {time.monotonic() - begin:.0f} s: {ended[0]}.")
    return readings


def _look(log: FollowedLog, heed: Callable[[bytes], None]) -> list[Finding]:
    try:
        return log.look(heed)
    except OSError as error:
        raise UnreadableError(
            what=say("cli.the-log-cannot-be-read", name=printable(log.path)),
            why=error.strerror or str(error),
            do=say("cli.check-its-rights-or-follow-it"),
        ) from error


def _what_ended(until: Until, begin: float) -> list[str]:
    if until.file and os.path.exists(until.file):
        return [f"{until.file} is there"]
    if until.process and not _is_running(until.process):
        return [f"process {until.process} has ended"]
    if until.seconds and time.monotonic() - begin >= until.seconds:
        return ["its time was up"]
    return []


def _is_running(process: int) -> bool:
    if _PLATFORM == "linux":
        try:
            with open(f"/proc/{process}/stat", encoding="ascii", errors="replace") as file:
                return file.read().rpartition(")")[2].split()[0] not in {"Z", "X"}
        except OSError:
            return False
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def _call_out(output: Output, path: str, found: Sequence[Finding]) -> None:
    for finding in filter(is_called_out, found):
        if output.as_json:
            from fundamen.report.contracts.reading import called_record  # noqa: PLC0415 - only where it is asked for

            output.show_record(called_record(path, finding))
        else:
            from fundamen.report.examining.clues_text import called_text  # noqa: PLC0415

            output.show(called_text(path, finding, means_of(finding)))
            sys.stdout.flush()
