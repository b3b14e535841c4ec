"""Read an installer's status and the decisive lines of its log.

Sources: "Windows Installer", "Error Codes" (statuses) and "Windows Installer Error Messages" (numbers in a log); the
words ``Return value 3`` stand behind the action that failed, and 2 behind one that the user has ended.
"""

import codecs
import re
from collections import deque
from collections.abc import Iterable, Iterator

import msgspec

_MOST_LINE = 400  # characters that are kept
_MOST_LINES = 40
_MOST_MARK = 3  # bytes of the mark in front that tells an encoding
_BEFORE = 3  # lines in front of a failed action that are kept: its cause stands there

_DONE = {0, 1641, 3010}  # what the others mean is in the knowledge
_NEEDS_RESTART = {1641, 3010}
_FAILED_ACTION = re.compile(r"[Rr]eturn value ([23])\b")
_NUMBERED = re.compile(r"\bError (\d{4,5})[.:]")
_ENDED = re.compile(r"MainEngineThread is returning (\d+)")


class LogLine(msgspec.Struct, frozen=True):
    """One decisive line of a log."""

    number: int  # counted from 1
    text: str
    is_cause: bool  # whether it tells of what failed, not only that something has


def is_done(status: int) -> bool:
    """Whether an installer with this status has done its work."""
    return status in _DONE


def needs_restart(status: int) -> bool:
    """Whether it says that the machine must be restarted."""
    return status in _NEEDS_RESTART


class LogReader:
    """Reads a log piece by piece, as it is written; its encoding is told by its first bytes."""

    def __init__(self) -> None:
        self._decoder: codecs.IncrementalDecoder | None = None
        self._head = b""  # until it is known how it is encoded
        self._rest, self._number, self._told = "", 0, 0
        self._before: deque[tuple[int, str]] = deque(maxlen=_BEFORE)  # lines that were not told yet

    def feed(self, data: bytes, *, is_end: bool = False) -> tuple[LogLine, ...]:
        """The decisive lines that a piece brings to light; bounded over all pieces together."""
        if self._decoder is None:
            self._head, data = b"", self._head + data
            if len(data) < _MOST_MARK and not is_end:
                self._head = data
                return ()
            wide = data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE))
            self._decoder = codecs.getincrementaldecoder("utf-16" if wide else "utf-8-sig")("replace")
        text = self._rest + self._decoder.decode(data, is_end)
        lines = text.splitlines(keepends=True)
        self._rest = lines.pop() if lines and not is_end and not lines[-1].endswith(("\n", "\r")) else ""
        found = [each for line in lines for each in self._next(line.strip())][: max(0, _MOST_LINES - self._told)]
        self._told += len(found)
        return tuple(found)

    def _next(self, line: str) -> Iterator[LogLine]:
        self._number += 1
        if _FAILED_ACTION.search(line):
            for number, before in self._before:
                yield LogLine(number, before[:_MOST_LINE], is_cause=False)
        elif not (is_cause := _NUMBERED.search(line) is not None) and not _ENDED.search(line):
            if line:
                self._before.append((self._number, line))
            return
        else:
            yield LogLine(self._number, line[:_MOST_LINE], is_cause)
            return
        self._before.clear()
        yield LogLine(self._number, line[:_MOST_LINE], is_cause=False)


def decisive_lines(data: bytes) -> tuple[LogLine, ...]:
    """The lines of a whole log that tell why it failed, in their order; bounded."""
    return in_order(LogReader().feed(data, is_end=True))


def in_order(lines: Iterable[LogLine]) -> tuple[LogLine, ...]:
    """Lines in the order of the log."""
    return tuple(sorted(lines, key=lambda line: line.number))
