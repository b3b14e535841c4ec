"""Unpack LZX, the compression of cabinets that hold large installers, frame by frame.

A stream is a row of blocks, each with codes of its own; it is cut into frames of 32,768 unpacked bytes, after each of
which the bits begin at a 16-bit word again. A frame may end within a block, never within a match.

Source: Microsoft LZX Data Compression Format (of the Cabinet SDK); MS-PATCH, section 2.
"""

import struct
import sys
from array import array
from collections.abc import Sequence
from enum import IntEnum
from itertools import accumulate

from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_FRAME = 32768  # bytes that are unpacked together
_LITERALS = 256
_LENGTH_COUNT, _ALIGNED_COUNT, _PRETREE_COUNT = 249, 8, 20
_LEAST_MATCH, _LONG_MATCH = 2, 7
_LONGEST_CODE = 16  # bits
_RECENT_COUNT = 3  # distances that are remembered
_ALIGNED_BITS = 3  # the lowest of a distance, which have a code of their own
_MOST_LENGTH = 17  # lengths of codes are written modulo this
_ZEROS, _MANY_ZEROS, _SAME = 17, 18, 19  # of the codes in which lengths of codes are written
_CALL, _CALL_TAIL = 0xE8, 10  # an instruction whose operand is translated; not in so many bytes at a frame's end
_MOST_TRANSLATED = 1 << 30  # bytes of a stream; what lies behind them stands as it is
_SLOT_COUNTS = {15: 30, 16: 32, 17: 34, 18: 36, 19: 38, 20: 42, 21: 50}  # of distances, by the window's bits
_EXTRA_BITS = [max(0, min(slot // 2 - 1, 17)) for slot in range(50)]
_BASES = [0, *accumulate(1 << extra for extra in _EXTRA_BITS)]
_DISTANCES = struct.Struct("<III")

_Table = Sequence[int]  # by the 16 bits that come next: a symbol, and in the lowest five bits its code's length


class _Kind(IntEnum):
    VERBATIM = 1
    ALIGNED = 2
    STORED = 3


class LzxUnpacker:
    """One stream, whose frames are unpacked in their order."""

    def __init__(self, what: str, window_bits: int) -> None:
        """Begin a stream.

        Args:
            what: the container, for messages.
            window_bits: how far back a match reaches, as a power of two.

        Raises:
            DamagedFileError: no such window exists.
        """
        self._what = what
        if window_bits not in _SLOT_COUNTS:
            raise self._damaged_stream(say("formats.its-window-has-bits", window_bits=window_bits))
        self._window = 1 << window_bits
        self._main_lengths = [0] * (_LITERALS + 8 * _SLOT_COUNTS[window_bits])
        self._length_lengths = [0] * _LENGTH_COUNT
        self._main: _Table = ()
        self._lengths: _Table = ()
        self._aligned: _Table = ()
        self._recent = [1, 1, 1]  # distances, the latest first
        self._kind = _Kind.VERBATIM
        self._size = self._left = 0  # bytes that this block gives, and has still to give
        self._translates_below: int | None = None  # None until it was read
        self._given = 0  # bytes
        self._past = bytearray()  # what was given, before its translation, as far as the window reaches
        self._rest = b""  # packed bytes that the last frame did not use

    def unpack(self, data: bytes, size: int) -> bytes:
        """The next frame.

        Args:
            data: its packed bytes.
            size: how many bytes it gives; 32,768 of all frames but the last.

        Raises:
            DamagedFileError: the packed bytes are none of LZX, or end too early.
        """
        data = self._rest + data
        bits = _Bits(data, 0)
        if self._translates_below is None:
            self._translates_below = bits.take(16) << 16 | bits.take(16) if bits.take(1) else 0
        begin = len(self._past)
        end = begin + size
        while len(self._past) < end:
            if not self._left:
                bits = self._begin_block(bits, data)
            expected = min(end, len(self._past) + self._left)
            before = len(self._past)
            if self._kind is _Kind.STORED:
                at = bits.byte_at
                self._past += data[at : at + expected - before]
                bits = _Bits(data, at + expected - before)
            else:
                self._unpack_codes(bits, expected)
            if len(self._past) != expected or bits.byte_at > len(data) + 1:
                raise self._damaged_stream(say("formats.a-frame-ends-too-early-or"))
            self._left -= expected - before
        self._rest = data[bits.byte_at :]
        frame = self._past[begin:]
        del self._past[: -self._window]
        return self._translate_calls(frame)

    def _begin_block(self, bits: "_Bits", data: bytes) -> "_Bits":
        """Read a block's header; the bits go on at what is given back."""
        if self._kind is _Kind.STORED and self._size % 2:
            bits = _Bits(data, bits.byte_at + 1)
        kind = bits.take(3)
        self._size = self._left = bits.take(12) << 12 | bits.take(12)
        if kind not in {*_Kind} or not self._size:
            raise self._damaged_stream(say("formats.a-block-is-of-kind-and", kind=kind, size=self._size))
        self._kind = _Kind(kind)
        if self._kind is _Kind.STORED:
            at = bits.next_word_at
            if at + _DISTANCES.size > len(data):
                raise self._damaged_stream(say("formats.a-stored-block-ends-too-early"))
            self._recent = list(_DISTANCES.unpack_from(data, at))
            return _Bits(data, at + _DISTANCES.size)
        if self._kind is _Kind.ALIGNED:
            self._aligned = self._table([bits.take(_ALIGNED_BITS) for _ in range(_ALIGNED_COUNT)])
        self._read_lengths(bits, self._main_lengths, 0, _LITERALS)
        self._read_lengths(bits, self._main_lengths, _LITERALS, len(self._main_lengths))
        self._main = self._table(self._main_lengths)
        self._read_lengths(bits, self._length_lengths, 0, _LENGTH_COUNT)
        # A block without long matches needs no codes for lengths.
        self._lengths = self._table(self._length_lengths) if any(self._length_lengths) else ()
        return bits

    def _read_lengths(self, bits: "_Bits", lengths: list[int], begin: int, end: int) -> None:
        """Read the lengths of codes, which are written as their difference from those of the block before."""
        pretree = self._table([bits.take(4) for _ in range(_PRETREE_COUNT)])
        at = begin
        while at < end:
            symbol = bits.symbol(pretree)
            if symbol == _ZEROS:
                run, length = 4 + bits.take(4), 0
            elif symbol == _MANY_ZEROS:
                run, length = 20 + bits.take(5), 0
            elif symbol == _SAME:
                run = 4 + bits.take(1)
                length = (lengths[at] - bits.symbol(pretree)) % _MOST_LENGTH
            else:
                run, length = 1, (lengths[at] - symbol) % _MOST_LENGTH
            if at + run > end:
                raise self._damaged_stream(say("formats.it-tells-lengths-of-more-codes"))
            lengths[at : at + run] = [length] * run
            at += run

    def _table(self, lengths: Sequence[int]) -> _Table:
        """The table of a canonical code: shorter codes come first, and among equal ones the smaller symbol."""
        table: list[int] = []
        for symbol in sorted(filter(lengths.__getitem__, range(len(lengths))), key=lengths.__getitem__):
            length = lengths[symbol]
            table += [symbol << 5 | length] * (1 << (_LONGEST_CODE - length))
            if len(table) > 1 << _LONGEST_CODE:
                break
        if len(table) != 1 << _LONGEST_CODE:
            raise self._damaged_stream(say("formats.the-lengths-of-its-codes-fit"))
        return table

    def _unpack_codes(self, bits: "_Bits", end: int) -> None:
        """Unpack literals and matches until so many bytes are there. Long, since each call in it would cost."""
        past, main, lengths, aligned = self._past, self._main, self._lengths, self._aligned
        is_aligned = self._kind is _Kind.ALIGNED
        recent = self._recent
        at = len(past)
        while at < end:
            symbol = bits.symbol(main)
            if symbol < _LITERALS:
                past.append(symbol)
                at += 1
                continue
            slot, length = (symbol - _LITERALS) >> 3, symbol & 7
            if length == _LONG_MATCH:
                if not lengths:
                    raise self._damaged_stream(say("formats.it-has-a-long-match-and"))
                length += bits.symbol(lengths)
            length += _LEAST_MATCH
            if slot < _RECENT_COUNT:
                recent[0], recent[slot] = recent[slot], recent[0]
            else:
                extra = _EXTRA_BITS[slot]
                if is_aligned and extra >= _ALIGNED_BITS:
                    offset = (bits.take(extra - _ALIGNED_BITS) << _ALIGNED_BITS) + bits.symbol(aligned)
                else:
                    offset = bits.take(extra)
                recent[:] = _BASES[slot] + offset - 2, recent[0], recent[1]
            distance = recent[0]
            if not 0 < distance <= at:
                raise self._damaged_stream(say("formats.it-refers-bytes-back-and-there", distance=distance, at=at))
            piece = past[at - distance : at - distance + length]
            if distance < length:  # it repeats what it has just given
                piece = (piece * (length // distance + 1))[:length]
            past += piece
            at += length

    def _translate_calls(self, frame: bytearray) -> bytes:
        """A frame with the operands of calls, which were packed as places in the stream, as distances again."""
        begin, limit = self._given, self._translates_below or 0
        self._given += len(frame)
        if not limit or begin >= _MOST_TRANSLATED or len(frame) <= _CALL_TAIL:
            return bytes(frame)
        at, end = 0, len(frame) - _CALL_TAIL
        while (at := frame.find(_CALL, at, end)) >= 0:
            place = begin + at
            operand = int.from_bytes(frame[at + 1 : at + 5], "little", signed=True)
            if -place <= operand < limit:
                distance = operand - place if operand >= 0 else operand + limit
                frame[at + 1 : at + 5] = (distance & 0xFFFF_FFFF).to_bytes(4, "little")
            at += 5
        return bytes(frame)

    def _damaged_stream(self, why: str) -> DamagedFileError:
        return damage_error(self._what, say("formats.its-lzx-stream-cannot-be-unpacked", why=why))


class _Bits:
    """Bits from 16-bit little-endian words, the highest first. Past the end they are zero; the caller checks that."""

    __slots__ = ("_at", "_begin", "_bits", "_count", "_words")

    def __init__(self, data: bytes, begin: int) -> None:
        self._begin = begin
        rest = data[begin:]
        self._words = array("H", rest + bytes(len(rest) % 2))
        if sys.byteorder == "big":
            self._words.byteswap()
        self._at = 0  # the next word
        self._bits = self._count = 0  # those of earlier words that are not taken yet

    @property
    def byte_at(self) -> int:
        """Where the first word begins of which nothing was taken."""
        return self._begin + 2 * (self._at - self._count // 16)

    @property
    def next_word_at(self) -> int:
        """Where the next word begins, at least one bit further."""
        return self._begin + 2 * ((16 * self._at - self._count) // 16 + 1)

    def take(self, count: int) -> int:
        """The next bits as a number, up to 17."""
        while self._count < count:
            self._pull()
        self._count -= count
        value = self._bits >> self._count
        self._bits &= (1 << self._count) - 1
        return value

    def symbol(self, table: _Table) -> int:
        """The symbol whose code comes next."""
        if self._count < _LONGEST_CODE:
            self._pull()
        entry = table[self._bits >> (self._count - _LONGEST_CODE)]
        self._count -= entry & 31
        self._bits &= (1 << self._count) - 1
        return entry >> 5

    def _pull(self) -> None:
        word = self._words[self._at] if self._at < len(self._words) else 0
        self._bits = self._bits << 16 | word
        self._at += 1
        self._count += 16
