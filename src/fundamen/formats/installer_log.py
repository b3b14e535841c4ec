"""What an installer says of itself: the status with which it ended, and the decisive lines of its log.

Sources: "Windows Installer", "Error Codes" (statuses) and "Windows Installer Error Messages" (numbers in a log); the
words ``Return value 3`` stand behind the action that failed, and 2 behind one that the user has ended.
"""

import codecs
import re
from collections.abc import Iterator

import msgspec

_MOST_LINE = 400  # characters that are kept
_MOST_LINES = 40
_BEFORE = 3  # lines in front of a failed action that are kept: its cause stands there

_STATUSES = {
    0: "it says that it is done",
    1602: "somebody has cancelled it",
    1603: "it has failed; the decisive line of its log stands before 'Return value 3'",
    1604: "it is suspended, and not finished",
    1605: "it knows no such product on this machine",
    1612: "the source that it was installed from is not at hand",
    1618: "another installation is under way",
    1619: "its package cannot be opened",
    1620: "its package cannot be opened: it is no valid one",
    1622: "its log cannot be opened",
    1625: "a policy of this machine forbids it",
    1632: "the folder for temporary files is full or cannot be written to",
    1633: "it is not for this machine's processor or system",
    1638: "another version of the product is installed already",
    1641: "it is done, and has begun a restart",
    3010: "it is done; the machine must be restarted",
}
_DONE = {0, 1641, 3010}
_NEEDS_RESTART = {1641, 3010}
_FAILED_ACTION = re.compile(r"[Rr]eturn value ([23])\b")
_NUMBERED = re.compile(r"\bError (\d{4,5})[.:]")
_ENDED = re.compile(r"MainEngineThread is returning (\d+)")


class LogLine(msgspec.Struct, frozen=True):
    """One decisive line of a log."""

    number: int  # counted from 1
    text: str
    is_cause: bool  # whether it tells of what failed, not only that something has


def status_in_words(status: int) -> str:
    """What a status means."""
    return _STATUSES.get(status, f"status {status}, which its publisher must explain")


def is_done(status: int) -> bool:
    """Whether an installer with this status has done its work."""
    return status in _DONE


def needs_restart(status: int) -> bool:
    """Whether it says that the machine must be restarted."""
    return status in _NEEDS_RESTART


def decisive_lines(data: bytes) -> tuple[LogLine, ...]:
    """The lines of a log that tell why it failed, in their order; bounded."""
    lines = _text(data).splitlines()
    chosen: dict[int, bool] = {}
    for number, line in enumerate(lines):
        if _FAILED_ACTION.search(line):
            for before in range(max(0, number - _BEFORE), number):
                if lines[before].strip():
                    chosen.setdefault(before, _NUMBERED.search(lines[before]) is not None)
            chosen[number] = False
        elif _NUMBERED.search(line):
            chosen[number] = True
        elif _ENDED.search(line):
            chosen[number] = False
    found = sorted(chosen.items())[:_MOST_LINES]
    return tuple(LogLine(number + 1, lines[number].strip()[:_MOST_LINE], is_cause) for number, is_cause in found)


def ended_with(data: bytes) -> Iterator[int]:
    """The statuses that a log says it has ended with."""
    for found in _ENDED.finditer(_text(data)):
        yield int(found[1])


def _text(data: bytes) -> str:
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", "replace")
    return data.decode("utf-8", "replace").removeprefix("\ufeff")
