"""Follow the log of an installer while it runs: its decisive lines are reported as they are written."""

import os
from collections.abc import Sequence

import msgspec

from fundamen.changes.base import Tell
from fundamen.clues.following import is_called_out
from fundamen.clues.reading import Reader
from fundamen.clues.scanning import Scanner
from fundamen.clues.text import Encoding
from fundamen.knowledge.entries import load_knowledge
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.paths import HostPath

OWN_LOG = "C:\\windows\\temp\\fundamen-installer.log"  # where it writes, unless the plan names a place
_MOST_LOG = 64 << 20  # bytes
_MOST_LINE = 400  # characters that are kept
_MOST_LINES = 40


class LogLine(msgspec.Struct, frozen=True):
    """One decisive line of a log."""

    number: int  # counted from 1
    text: str
    is_cause: bool  # whether it tells of what failed, not only that something has


class InstallerLog:
    """The log of an installer, read as it is written. What stood in it before it was run is none of its."""

    def __init__(self, place: Sequence[str], tell: Tell) -> None:
        """Look what stands in it before the installer is run. Raises: OSError."""
        known = load_knowledge()
        self._place, self._tell = place, tell
        self._reader, self._encoding, self._rest = (
            Reader(known, Scanner(known), say("changes.the-installer-log")),
            Encoding(),
            b"",
        )
        path = self._looked_up()
        self._before, self._seen = _head_of(path), _stamp_of(path)
        self._at: int | None = None  # None: it is as before

    def heed(self) -> None:
        """Tell what was written since."""
        self._take(is_end=False)

    def finish(self) -> tuple[LogLine, ...]:
        """All decisive lines, once it has ended; the one that decides is the cause."""
        self._take(is_end=True)
        cause = self._reader.result().decisive
        called_out = [each for each in self._reader.findings if is_called_out(each)]
        return tuple(LogLine(e.line, e.text[:_MOST_LINE], is_cause=e == cause) for e in called_out[:_MOST_LINES])

    def _take(self, *, is_end: bool) -> None:
        path = self._looked_up()
        data = b""
        if (stamp := _stamp_of(path)) != self._seen:
            self._seen = stamp
            data = self._since(path) if path else b""
        text = self._rest + self._encoding.feed(data, is_end=is_end)
        end = len(text) if is_end else text.rfind(b"\n") + 1
        whole, self._rest = text[:end], text[end:]
        for finding in filter(is_called_out, self._reader.feed(whole) if whole else ()):
            self._tell(
                say("changes.line-of-the-installer-log", line=finding.line, text=printable(finding.text[:_MOST_LINE]))
            )

    def _since(self, path: str) -> bytes:
        """The bytes that were written since the last look; all, if what was there before is gone."""
        with open(path, "rb") as file:
            if self._at is None:
                self._at = len(self._before) if file.read(len(self._before)) == self._before else 0
            file.seek(self._at)
            data = file.read(_MOST_LOG - self._at)
        self._at += len(data)
        return data

    def _looked_up(self) -> str:
        """The host path of the log, as the folder spells it; empty where it is not there (yet), or is a link."""
        folder, *parts = self._place
        for part in parts:
            names = {name.lower(): name for name in (os.listdir(folder) if os.path.isdir(folder) else ())}
            if part.lower() not in names:
                return ""
            folder = os.path.join(folder, names[part.lower()])
        return folder if os.path.isfile(folder) and not os.path.islink(folder) else ""


def log_place(named: str, prefix: HostPath) -> tuple[str, ...]:
    """(the host path of drive C, the parts of the log's path below it); a log elsewhere is not read."""
    log = (named or OWN_LOG).replace("\\", "/")
    parts = [part for part in log[2:].split("/") if part]
    is_there = log[:2].upper() == "C:" and not {".", ".."} & set(parts)
    return (os.path.join(prefix, "drive_c"), *parts) if is_there else (os.devnull,)


def _head_of(path: str) -> bytes:
    if not path:
        return b""
    with open(path, "rb") as file:
        return file.read(_MOST_LOG)


def _stamp_of(path: str) -> tuple[int, int]:
    """By what it is seen that a file was written to."""
    status = os.stat(path) if path else None
    return (status.st_size, status.st_mtime_ns) if status is not None else (0, 0)
