"""Read a large log by several processes: each looks through pieces of it, one puts together what they found."""

import os
import signal
from collections.abc import Iterator
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor
from itertools import islice

from fundamen.clues.reading import MOST_FINDINGS, Reader, Reading
from fundamen.clues.scanning import PossibleMatch, Scanned, Scanner, count_lines
from fundamen.clues.text import BLOCK, Encoding, blocks
from fundamen.knowledge.entries import Knowledge
from fundamen.machine.sharing import end_error

LARGE = 64 << 20  # bytes; below, to start further processes costs more than it saves
_PIECE = 16 << 20  # bytes that are handed out at once
_MOST_WORKERS = 4
_AHEAD = 2  # pieces for each worker that wait for it

_scanner: list[Scanner] = []  # of a worker


def may_be_shared(path: str) -> bool:
    """Whether a file is large enough, its encoding lets it be cut anywhere, and there are processors for it."""
    with open(path, "rb") as file:
        encoding = Encoding()
        encoding.feed(file.read(BLOCK), is_end=True)
    return os.path.getsize(path) >= LARGE and encoding.name == "utf-8" and _workers() > 1


def read_large(known: Knowledge, scanner: Scanner, path: str) -> Reading:
    """Read a text as ``read_text`` does.

    Raises:
        UnreadableError: it is no text, or a process that had a part in it was ended from outside.
        OSError: it cannot be read.
    """
    reader = Reader(known, scanner, path)
    with open(path, "rb") as file:
        next(blocks(file, path), None)  # says where it is no text
    pieces = iter(range(0, os.path.getsize(path), _PIECE))
    pool = ProcessPoolExecutor(_workers(), initializer=_begin, initargs=(known,))
    try:
        waiting = [pool.submit(_scan, path, at) for at in islice(pieces, _workers() * _AHEAD)]
        while waiting:
            scanned = waiting.pop(0).result()
            if (at := next(pieces, None)) is not None:
                waiting.append(pool.submit(_count if reader.is_full else _scan, path, at))
            reader.take(_shift_lines(scanned, reader.lines))
    except BrokenExecutor as error:
        raise end_error() from error
    finally:
        pool.shutdown(cancel_futures=True)
    return reader.result()


def _workers() -> int:
    return min(_MOST_WORKERS, os.cpu_count() or 1)


def _begin(known: Knowledge) -> None:
    """Set a worker up: Ctrl-C is for the process that puts together."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _scanner.append(Scanner(known))


def _scan(path: str, begin: int) -> Scanned:
    """Look through the lines that begin in one piece of a file."""
    lines, found, seen = 0, list[PossibleMatch](), set[bytes]()
    for block in blocks(Lines(path, begin, _PIECE), path, _plain()):
        if len(found) > MOST_FINDINGS:  # more than is kept of all pieces together
            lines += count_lines(block)
            continue
        scanned = _scanner[0].scan(block, seen, lines + 1)
        lines += scanned.lines
        found += scanned.candidates
    return Scanned(lines, tuple(found))


def _count(path: str, begin: int) -> Scanned:
    """Count the lines that begin in one piece of a file."""
    return Scanned(sum(map(count_lines, blocks(Lines(path, begin, _PIECE), path, _plain()))), ())


def _plain() -> Encoding:
    encoding = Encoding()
    encoding.name = "utf-8"
    return encoding


def _shift_lines(scanned: Scanned, lines: int) -> Scanned:
    """The same with its lines numbered from the beginning of the text."""
    return Scanned(scanned.lines, tuple(type(c)(c.number + lines, c.raw, c.below) for c in scanned.candidates))


class Lines:
    """The bytes of the lines that begin in one piece of a file, as a stream."""

    def __init__(self, path: str, begin: int, size: int) -> None:
        """Begin.

        Args:
            path: of the file.
            begin: of the piece, in bytes.
            size: of the piece, in bytes.
        """
        self._bytes = self._read(path, begin, size)

    def read(self, _size: int, /) -> bytes:
        """The next bytes."""
        return next(self._bytes, b"")

    @staticmethod
    def _read(path: str, begin: int, size: int) -> Iterator[bytes]:
        with open(path, "rb") as file:
            at, end = begin, begin + size
            if begin:  # a line that began in the piece before belongs to that
                file.seek(begin - 1)
                line = file.readline(BLOCK)
                while not line.endswith(b"\n") and line and file.tell() < end:
                    line = file.readline(BLOCK)
                if not line.endswith(b"\n"):
                    return
                at = file.tell()
            data = b"\n"
            while at < end and (data := file.read(min(BLOCK, end - at))):
                at += len(data)
                yield data
            if not data.endswith(b"\n"):
                yield file.readline(BLOCK)
