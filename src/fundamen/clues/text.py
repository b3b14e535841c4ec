"""Bytes of logs as lines: encodings found out, long lines cut, control characters kept from doing harm.

A log is taken in blocks, and only lines that might say something are ever made into text: see ``scanning``.
"""

import codecs
import re
from collections.abc import Iterator
from typing import Protocol

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError

BLOCK = 1 << 20  # bytes that are looked at together
LONGEST_LINE = 4_000  # characters of one that are looked at
_HEAD = 4_096  # bytes by which an encoding is recognised
_LEAST_HEAD = 16  # of a text that is still being written
_MARKS = (
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_BINARY = re.compile(rb"[\x01-\x06\x0e-\x1a\x7f]")
_MOST_BINARY = 0.1  # share of bytes that no text has
# ECMA-48: control sequences, strings to the terminal, and single escapes.
_ESCAPES = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|[\]PX^_].*?(?:\x1b\\|\x07|$)|[ -~])|\x9b[0-?]*[ -/]*[@-~]")
_UNSEEN = re.compile("[\u00ad\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]+")  # format characters that no one sees
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f]+")


class Stream(Protocol):
    """Where a log's bytes come from."""

    def read(self, size: int, /) -> bytes:
        """The next bytes, not more than size; none at the end."""


class Encoding:
    """Makes bytes of any encoding into UTF-8, piece by piece; recognised by the first piece that is large enough."""

    def __init__(self) -> None:
        self.name = ""  # until it is known
        self._head = b""
        self._decoder: codecs.IncrementalDecoder | None = None

    def feed(self, data: bytes, *, is_end: bool = False) -> bytes:
        """The next bytes as UTF-8. What is in no Unicode encoding is passed on as it is."""
        if not self.name:
            self._head += data
            if not is_end and len(self._head) < _HEAD and (len(self._head) < _LEAST_HEAD or b"\n" not in self._head):
                return b""
            data, self._head = self._head, b""
            self.name, mark = _detect_encoding(data)
            data = data[len(mark) :]
            if self.name not in {"utf-8", "bytes"}:
                self._decoder = codecs.getincrementaldecoder(self.name)("replace")
        if self._decoder is None:
            return data
        return self._decoder.decode(data, is_end).encode("utf-8", "replace")


def _detect_encoding(head: bytes) -> tuple[str, bytes]:
    """(encoding, the mark in front) by the first bytes of a text."""
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name, mark
    wide = len(head) // 2
    if wide > 1:
        little, big = head[1 : 2 * wide : 2].count(0), head[0 : 2 * wide : 2].count(0)
        if max(little, big) * 2 > wide and min(little, big) * 8 < wide:
            return ("utf-16-le" if little > big else "utf-16-be"), b""
    return "utf-8", b""


def is_binary(head: bytes) -> bool:
    """Whether bytes, made into UTF-8, are no text that a person could read."""
    return bool(head) and (len(_BINARY.findall(head)) + head.count(0)) / len(head) > _MOST_BINARY


def blocks(stream: Stream, name: str, encoding: Encoding | None = None) -> Iterator[bytes]:
    """A text as UTF-8 in blocks of whole lines; a line that never ends is cut, and what is too much of it left out.

    Raises:
        UnreadableError: it is no text.
    """
    encoding = encoding or Encoding()
    rest, is_first, is_cut = b"", True, False
    while True:
        piece = stream.read(BLOCK)
        data = encoding.feed(piece, is_end=not piece)
        if is_first and data:
            is_first = False
            if is_binary(data[:_HEAD]):
                raise UnreadableError(
                    what=say("clues.is-no-text", name=printable(name)),
                    why=say("clues.its-first-bytes-are-those-of"),
                    do=say("clues.if-it-is-packed-unpack-it", name=printable(name)),
                )
        if is_cut:
            _, newline, data = data.partition(b"\n")
            is_cut = not newline and bool(piece)
        data = rest + data
        end = data.rfind(b"\n") + 1
        whole, rest = (data, b"") if not piece else (data[:end], data[end:])
        if len(rest) > BLOCK:
            whole, rest, is_cut = whole + rest[:BLOCK] + b"\n", b"", True
        if whole:
            yield whole
        if not piece:
            return


def clean(line: bytes) -> str:
    """A line as text that can be looked through: decoded, without escapes for a terminal, with single spaces."""
    line = line[: LONGEST_LINE * 4]
    try:
        text = line.decode()
    except UnicodeDecodeError:
        text = line.decode("cp1252", "replace")  # what Windows wrote in the West, and close to Latin-1
    text = text[:LONGEST_LINE]
    if not text.isprintable():
        text = text.rstrip("\r\n").rpartition("\r")[2]  # of a line that was written over, its last state
        text = _CONTROL.sub(" ", _UNSEEN.sub("", _ESCAPES.sub("", text)))
    return " ".join(text.split())
