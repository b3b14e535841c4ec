"""Cabinets packed with LZX, in every way that the format allows, chosen by chance; proven against other unpackers."""

import random
import struct
from collections import Counter
from collections.abc import Iterator, Sequence

FRAME, LITERALS, LONGEST = 32768, 256, 257
SLOTS = {15: 30, 16: 32, 17: 34, 18: 36, 19: 38, 20: 42, 21: 50}
EXTRA = [max(0, min(slot // 2 - 1, 17)) for slot in range(51)]
BASES = [sum(1 << extra for extra in EXTRA[:slot]) for slot in range(51)]
VERBATIM, ALIGNED, STORED = 1, 2, 3
LIMIT = 12_000_000  # of what calls are translated in


class _Bits:
    def __init__(self) -> None:
        self.text = ""

    def put(self, value: int, count: int) -> None:
        self.text += f"{value:0{count}b}" if count else ""

    def taken(self, extra: int = 0) -> bytes:
        """All bits so far in whole words, at least so many bits further."""
        text = self.text + "0" * extra
        text += "0" * (-len(text) % 16)
        self.text = ""
        return b"".join(struct.pack("<H", int(text[at : at + 16], 2)) for at in range(0, len(text), 16))


def _lengths(counts: Counter[int], size: int) -> list[int]:
    """Lengths of a whole code over the symbols that are used; two at least."""
    used = [s for s, _ in counts.most_common()]
    used += [s for s in range(size) if s not in counts][: max(0, 2 - len(used))]
    short = len(used).bit_length() - 1
    shorter = (2 << short) - len(used)
    lengths = [0] * size
    for rank, symbol in enumerate(used):
        lengths[symbol] = short if rank < shorter else short + 1
    return lengths


def _codes(lengths: Sequence[int]) -> dict[int, tuple[int, int]]:
    code, codes, last = 0, {}, 0
    for length, symbol in sorted((length, symbol) for symbol, length in enumerate(lengths) if length):
        code <<= length - last
        codes[symbol] = (code, length)
        code, last = code + 1, length
    return codes


def _put_lengths(bits: _Bits, before: Sequence[int], lengths: Sequence[int]) -> None:
    answer: list[tuple[int, ...]] = []  # (code, then (value, count) of its extra bits, or a second code)
    at = 0
    while at < len(lengths):
        run = next((n for n in range(at, len(lengths)) if lengths[n] != lengths[at]), len(lengths)) - at
        difference = (before[at] - lengths[at]) % 17
        if lengths[at] == 0 and run >= 20:
            run = min(run, 51)
            answer.append((18, run - 20, 5))
        elif lengths[at] == 0 and run >= 4:
            run = min(run, 19)
            answer.append((17, run - 4, 4))
        elif run >= 4:
            run = min(run, 5)
            answer += [(19, run - 4, 1), (difference,)]
        else:
            run = 1
            answer.append((difference,))
        at += run
    pretree = _lengths(Counter(each[0] for each in answer), 20)
    codes = _codes(pretree)
    for length in pretree:
        bits.put(length, 4)
    for symbol, *extra in answer:
        bits.put(*codes[symbol])
        bits.put(*(extra or (0, 0)))


def _tokens(
    data: bytes, begin: int, end: int, recent: list[int], window: int, chance: random.Random
) -> Iterator[tuple[int, int]]:
    """(length, distance) of matches and (0, byte) of literals; none goes over the border of a frame."""
    seen: dict[bytes, int] = {data[at : at + 3]: at for at in range(max(0, begin - window + 300), begin - 2)}
    at = begin
    while at < end:
        bound = min(end, (at // FRAME + 1) * FRAME) - at
        place = seen.get(data[at : at + 3], -1)
        distances = [d for d in (*recent, at - place if place >= 0 else 0) if 0 < d <= min(at, window - 3)]
        distance = chance.choice(distances) if distances else 0
        length = 0
        while distance and length < min(bound, LONGEST) and data[at + length] == data[at + length - distance]:
            length += 1
        if length < 2 or chance.random() < 0.1:
            length, token = 1, (0, data[at])
        else:
            token = (length, distance)
            if distance in recent:
                slot = recent.index(distance)
                recent[0], recent[slot] = recent[slot], recent[0]
            else:
                recent[:] = [distance, *recent[:2]]
        for each in range(at, at + length):
            seen[data[each : each + 3]] = each
        yield token
        at += length


class _Packer:
    def __init__(self, data: bytes, window_bits: int, chance: random.Random) -> None:
        self.bits, self.ready, self.frames = _Bits(), b"", list[tuple[bytes, int]]()
        self.window, self.chance = 1 << window_bits, chance
        is_translated = chance.random() < 0.5
        self.bits.put(is_translated, 1)
        self.bits.put(LIMIT if is_translated else 0, 32 * is_translated)
        self.data = _with_calls(data) if is_translated else data
        self.main, self.lengths = [0] * (LITERALS + 8 * SLOTS[window_bits]), [0] * 249
        self.recent, self.at = [1, 1, 1], 0

    def pack(self) -> list[tuple[bytes, int]]:
        while self.at < len(self.data):
            kind = self.chance.choice([VERBATIM, ALIGNED, STORED])
            end = min(len(self.data), self.at + self.chance.randrange(1, 90_000))
            self.bits.put(kind, 3)
            self.bits.put(end - self.at, 24)
            if kind == STORED:
                self.store(end)
            else:
                self.encode(end, is_aligned=kind == ALIGNED)
        return self.frames

    def go_on(self, count: int) -> None:
        self.at += count
        if self.at % FRAME == 0 or self.at == len(self.data):
            self.frames.append((self.ready + self.bits.taken(), (self.at - 1) % FRAME + 1))
            self.ready = b""

    def store(self, end: int) -> None:
        self.ready += self.bits.taken(extra=1) + struct.pack("<3I", *self.recent)
        is_odd = (end - self.at) % 2
        while self.at < end:
            until = min(end, (self.at // FRAME + 1) * FRAME)
            self.ready += self.data[self.at : until] + bytes(is_odd and until == end)
            self.go_on(until - self.at)

    def encode(self, end: int, *, is_aligned: bool) -> None:
        before = list(self.recent)
        tokens = list(_tokens(self.data, self.at, end, self.recent, self.window, self.chance))
        answer = list(_encode_tokens(tokens, before))
        low = _lengths(Counter(offset & 7 for _, _, extra, offset in answer if extra >= 3), 8)
        for length in low if is_aligned else ():
            self.bits.put(length, 3)
        main = _lengths(Counter(symbol for symbol, *_ in answer), len(self.main))
        long = Counter(length for _, length, *_ in answer if length is not None)
        lengths = _lengths(long, 249) if long else [0] * 249
        _put_lengths(self.bits, self.main[:LITERALS], main[:LITERALS])
        _put_lengths(self.bits, self.main[LITERALS:], main[LITERALS:])
        _put_lengths(self.bits, self.lengths, lengths)
        self.main, self.lengths = main, lengths
        main_codes, length_codes, low_codes = _codes(main), _codes(lengths), _codes(low)
        for (symbol, footer, extra, offset), (length, _) in zip(answer, tokens, strict=True):
            self.bits.put(*main_codes[symbol])
            self.bits.put(*length_codes[footer] if footer is not None else (0, 0))
            if is_aligned and extra >= 3:
                self.bits.put(offset >> 3, extra - 3)
                self.bits.put(*low_codes[offset & 7])
            else:
                self.bits.put(offset, extra)
            self.go_on(length or 1)


def _encode_tokens(tokens: Sequence[tuple[int, int]], recent: list[int]) -> Iterator[tuple[int, int | None, int, int]]:
    """(main symbol, symbol of the length or None, number of extra bits, their value) of each token."""
    for length, distance in tokens:
        if not length:
            yield distance, None, 0, 0
            continue
        if distance in recent:
            slot = recent.index(distance)
            recent[0], recent[slot] = recent[slot], recent[0]
            offset = 0
        else:
            recent[:] = [distance, *recent[:2]]
            slot = next(n for n in range(3, 50) if BASES[n] <= distance + 2 < BASES[n + 1])
            offset = distance + 2 - BASES[slot]
        header = min(length - 2, 7)
        extra = EXTRA[slot] if slot > 2 else 0
        yield LITERALS + (slot << 3 | header), length - 9 if header == 7 else None, extra, offset


def _with_calls(data: bytes) -> bytes:
    """The bytes with the operands of calls as places in the stream."""
    changed = bytearray(data)
    for begin in range(0, len(data), FRAME):
        at, end = begin, min(len(data), begin + FRAME) - 10
        while (at := changed.find(0xE8, at, max(end, at))) >= 0:
            distance = int.from_bytes(changed[at + 1 : at + 5], "little", signed=True)
            if -at <= distance < LIMIT:
                place = distance + at if distance < LIMIT - at else distance - LIMIT
                changed[at + 1 : at + 5] = place.to_bytes(4, "little", signed=True)
            at += 5
    return bytes(changed)


def an_lzx_cabinet(name: str, data: bytes, window_bits: int, seed: int) -> bytes:
    """A cabinet with one file. Source: MS-CAB, section 2."""
    chance = random.Random(seed)  # noqa: S311 - chance, no secret
    blocks = b"".join(
        struct.pack("<IHH", 0, len(each), size) + each for each, size in _Packer(data, window_bits, chance).pack()
    )
    count = -(-len(data) // FRAME)
    file = struct.pack("<IIHHHH", len(data), 0, 0, 0x5A21, 0, 0x20) + name.encode() + b"\0"
    at = 36 + 8 + len(file)
    folder = struct.pack("<IHH", at, count, 3 | window_bits << 8)
    head = struct.pack("<4sIIIIIBBHHHHH", b"MSCF", 0, at + len(blocks), 0, 44, 0, 3, 1, 1, 1, 0, 0, 0)
    return head + folder + file + blocks
