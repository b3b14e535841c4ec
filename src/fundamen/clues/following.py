"""Follow a log while it is written: what is added is read once, whatever becomes of the file.

A file may not be there yet; it may be moved away and begun again under its name, which is followed by that name; it may
be emptied and go on. Each beginning is a text of its own, whose encoding is found out again.
"""

import os
from collections.abc import Callable
from typing import IO

from fundamen.clues.findings import Finding
from fundamen.clues.reading import Reader, Reading
from fundamen.clues.text import BLOCK, Encoding
from fundamen.knowledge.entries import LineRole

_HEAD = 1 << 12  # bytes by which the encoding of a file is recognised whose beginning is not read
_MOST_AT_ONCE = 8 << 20  # bytes that one look takes


class FollowedLog:
    """One log. What stands in it when the following begins is passed over, unless it is asked for."""

    def __init__(self, path: str, reader: Reader, *, from_start: bool) -> None:
        """Begin.

        Args:
            path: of the file, which need not be there yet.
            reader: of its text.
            from_start: whether what stands in it already is read too.
        """
        self.path, self._reader = path, reader
        self._file: IO[bytes] | None = None
        self._encoding = Encoding()
        self._rest = b""  # of a line that is not complete yet, in UTF-8
        if not from_start:
            self._open(skip=True)

    def look(self, heed: Callable[[bytes], None] = lambda _: None) -> list[Finding]:
        """Read what was added since the last look; give what it says that was not said before.

        Args:
            heed: is given each block of new lines.

        Raises:
            OSError: the file is there and cannot be read.
        """
        if self._file is None:
            self._open(skip=False)
        if self._file is None:
            return []
        found = self._take(heed)
        try:
            status, own = os.stat(self.path), os.fstat(self._file.fileno())
        except FileNotFoundError:
            return found  # moved away; what is still written into it is read until there is another
        if (status.st_dev, status.st_ino) != (own.st_dev, own.st_ino):
            found += self._end(heed)
            self._open(skip=False)
            found += self._take(heed)
        elif status.st_size < self._file.tell():
            self._restart()
            self._file.seek(0)
            found += self._take(heed)
        return found

    def finish(self) -> tuple[list[Finding], Reading]:
        """Read the last line, and weigh all findings."""
        found = self._end(lambda _: None) if self._file is not None else []
        return found, self._reader.result(self._encoding.name or "utf-8")

    def _open(self, *, skip: bool) -> None:
        try:
            self._file = open(self.path, "rb")  # noqa: SIM115 - it stays open while it is followed
        except FileNotFoundError:
            return
        self._restart()
        if skip:
            self._encoding.feed(self._file.read(_HEAD), is_end=True)
            size = self._file.seek(0, os.SEEK_END)
            self._file.seek(
                size - size % 4 if "32" in self._encoding.name else size - size % 2 * ("16" in self._encoding.name)
            )

    def _restart(self) -> None:
        self._encoding, self._rest = Encoding(), b""

    def _take(self, heed: Callable[[bytes], None]) -> list[Finding]:
        """Read to the end of the file, or as much as one look takes."""
        found: list[Finding] = []
        taken = 0
        while self._file is not None and taken < _MOST_AT_ONCE and (data := self._file.read(BLOCK)):
            taken += len(data)
            text = self._rest + self._encoding.feed(data)
            end = text.rfind(b"\n") + 1
            whole, self._rest = text[:end], text[end:]
            if len(self._rest) > BLOCK:
                whole, self._rest = whole + self._rest[:BLOCK] + b"\n", b""
            if whole:
                heed(whole)
                found += self._reader.feed(whole)
        return found

    def _end(self, heed: Callable[[bytes], None]) -> list[Finding]:
        """Read what is left of a file, and close it."""
        found = self._take(heed)
        rest = self._rest + self._encoding.feed(b"", is_end=True)
        if rest:
            heed(rest)
            found += self._reader.feed(rest + b"\n")
        self._rest = b""
        if self._file is not None:
            self._file.close()
            self._file = None
        return found


def is_called_out(finding: Finding) -> bool:
    """Whether a line is reported as soon as it comes: one that names a cause or a failed step, and means it."""
    is_meant = not (finding.is_aside or finding.is_quiet or finding.is_warning)
    return is_meant and finding.role in {LineRole.CAUSE, LineRole.FAILURE}
