"""Read a text as a whole: which lines say something, which of them is the first cause, and what it all names."""

import re
from collections.abc import Callable, Iterator, Sequence
from functools import partial

import msgspec

from fundamen.clues.findings import Finding, find_in_line
from fundamen.clues.mentions import Kind, Mention, Mentions
from fundamen.clues.scanning import Scanner
from fundamen.clues.text import Encoding, Stream, blocks, clean
from fundamen.knowledge.entries import Knowledge, Role

SHORT = 200  # lines: of a shorter text every line is looked at
_MOST_FINDINGS = 5_000
_MOST_REMEMBERED = 20_000
_STAMP = 40  # characters at the beginning of a line in which digits are those of a time
_AFTER = 3  # lines below one that are looked at with it
_LONGEST_PASTE = 64 << 10  # bytes of a text that may be a message that somebody has copied
_DIGITS = bytes(range(0x30, 0x3A))


class Reading(msgspec.Struct, frozen=True, kw_only=True):
    """What a text says."""

    name: str  # of the file, or "-"
    lines: int
    encoding: str
    findings: tuple[Finding, ...]  # in the order of the text; what is said again and again only once
    repeated: int  # how many lines say again what one before them has said
    mentions: tuple[Mention, ...]
    decisive: Finding | None  # the first cause
    also: tuple[Finding, ...]  # further causes, in the order of the text
    follows: tuple[Finding, ...]  # what only follows from them
    earlier: tuple[Finding, ...]  # what belongs to a run before, or was overcome
    ended_well: bool  # the last thing that the text says of a run is that it ended well


class Reader:
    """Reads a text block by block; each line once."""

    def __init__(self, known: Knowledge, scanner: Scanner, name: str) -> None:
        self._known, self._scanner, self.name = known, scanner, name
        self.findings: list[Finding] = []
        self.mentions = Mentions()
        self.lines, self.repeated = 0, 0
        self._remembered: dict[bytes, bool] = {}
        self._is_short = True

    def feed(self, block: bytes, *, is_all: bool = False) -> list[Finding]:
        """Read the next lines; give what they say that was not said before.

        Args:
            block: whole lines, in UTF-8.
            is_all: whether it is the whole text, and no long one: then every line is looked at.
        """
        if is_all and block.count(b"\n") < SHORT and len(block) <= _LONGEST_PASTE:
            return self._feed_short(block)
        found, at, number = [], 0, self.lines + 1
        for begin, end in self._scanner.lines_of(block):
            number += block.count(b"\n", at, begin)
            at = begin
            raw = block[begin:end]
            key = raw[:_STAMP].translate(None, _DIGITS) + raw[_STAMP:]
            if key in self._remembered:
                self.repeated += self._remembered[key]
                continue
            finding = self._find(clean(raw), number, partial(_below, block, end))
            if len(self._remembered) < _MOST_REMEMBERED:
                self._remembered[key] = finding is not None
            if finding is not None:
                found.append(finding)
        self.lines += block.count(b"\n") + (not block.endswith(b"\n"))
        return self._keep(found)

    def _find(self, text: str, number: int, below: Callable[[], list[bytes]]) -> Finding | None:
        lines = below()
        goes_on = bool(lines) and lines[0][:1].isspace()
        return find_in_line(self._known, self._scanner, text, number, [clean(line) for line in lines], joins=goes_on)

    def _feed_short(self, block: bytes) -> list[Finding]:
        """Read a whole short text: a message may go over several lines, and everything that is named counts."""
        lines = [clean(line) for line in block.split(b"\n")]
        while lines and not lines[-1]:
            lines.pop()
        found: list[Finding] = []
        until = 0
        for number, text in enumerate(lines, 1):
            self.mentions.add_text(text, number)
            if text and number > until:
                finding = find_in_line(
                    self._known, self._scanner, text, number, lines[number : number + _AFTER], joins=True
                )
                if finding is not None:
                    until = number + finding.lines - 1
                    found.append(finding)
        self.lines += len(lines)
        return self._keep(found)

    def _keep(self, found: list[Finding]) -> list[Finding]:
        del found[max(0, _MOST_FINDINGS - len(self.findings)) :]
        for finding in found:
            self.mentions.add_holes(finding.holes.items(), finding.line)
            for code in finding.codes:
                self.mentions.add(Kind.CODE, code.name, finding.line)
            if finding.role in {Role.CAUSE, Role.FAILURE}:
                self.mentions.add_text(finding.text, finding.line)
        self.findings += found
        return found

    def reading(self, encoding: str = "utf-8") -> Reading:
        """What was said so far, weighed."""
        return weighed(self.name, self.lines, encoding, self.findings, self.repeated, self.mentions.all())


def read_text(known: Knowledge, scanner: Scanner, stream: Stream, name: str) -> Reading:
    """Read a text from its beginning to its end.

    Raises:
        UnreadableError: it is no text.
    """
    encoding = Encoding()
    reader = Reader(known, scanner, name)
    coming = blocks(stream, name, encoding)
    first = next(coming, b"")
    second = next(coming, None)
    reader.feed(first, is_all=second is None)
    if second is not None:
        reader.feed(second)
        for block in coming:
            reader.feed(block)
    return reader.reading(encoding.name)


def weighed(
    name: str, lines: int, encoding: str, findings: Sequence[Finding], repeated: int, mentions: tuple[Mention, ...]
) -> Reading:
    """Tell the first cause from what follows from it.

    What counts is what was said since the last run began or the last one ended well, and was not taken back. Of that
    the first cause is decisive; where none is named, the first step that failed; where all has only followed, that.
    """
    last = max((i for i, each in enumerate(findings) if each.role in {Role.BEGINS, Role.DONE}), default=-1)
    since = [each for each in findings[last + 1 :] if each.role not in {Role.BEGINS, Role.DONE}]
    is_done = last >= 0 and findings[last].role is Role.DONE
    if last >= 0 and not is_done and not any(_counts(each) for each in since):
        since, last = [each for each in findings if each.role not in {Role.BEGINS, Role.DONE}], -1
    counting = [each for each in since if _counts(each)]
    is_plain = any(not each.is_warning for each in counting)
    if not is_plain and lines > SHORT // 4:
        counting = []  # a long text in which something is only warned of tells of no failure
    if not counting and lines <= SHORT // 4:
        counting = [each for each in since if each.entry is not None and not each.is_aside] or since[:1]
    causes = _without_outer([each for each in counting if each.role is Role.CAUSE])
    failures = [each for each in counting if each.role is Role.FAILURE and each.entry is not None]
    others = [each for each in counting if each.role is Role.FAILURE and each.entry is None]
    decisive = next(iter(causes or failures or others or counting), None)
    also = tuple(_different(causes, decisive))
    told = {id(each) for each in (decisive, *also)}
    return Reading(
        name=name,
        lines=lines,
        encoding=encoding,
        findings=tuple(findings),
        repeated=repeated,
        mentions=mentions,
        decisive=decisive,
        also=also,
        follows=tuple(each for each in counting if id(each) not in told),
        earlier=tuple(each for each in findings[: last + 1] if each.role is Role.CAUSE),
        ended_well=is_done and decisive is None,
    )


def _counts(finding: Finding) -> bool:
    return not finding.is_aside


def _without_outer(causes: list[Finding]) -> list[Finding]:
    """The causes without those that another, named below as their own cause, has brought about."""
    kept: list[Finding] = []
    for cause in causes:
        if cause.text.startswith(("Caused by:", "---> ")):
            while kept and cause.line - kept[-1].line <= SHORT and _is_thrown(kept[-1].text):
                kept.pop()
        kept.append(cause)
    return kept


def _is_thrown(text: str) -> bool:
    return "Exception" in text or "Error" in text


def _different(causes: Sequence[Finding], decisive: Finding | None) -> Iterator[Finding]:
    """The causes that say something else than those before them: of another kind, or of another thing."""
    seen: set[tuple[str, str]] = set()
    for cause in (*([decisive] if decisive is not None else []), *causes):
        kind, name = cause.entry.id if cause.entry is not None else "", _thing(cause)
        if cause is not decisive and (kind, name) not in seen and (name or not any(kind == k for k, _ in seen)):
            yield cause
        seen.add((kind, name))


def _thing(finding: Finding) -> str:
    return next(
        (finding.holes[name] for name in ("component", "path", "symbol", "package") if name in finding.holes), ""
    )


def _below(block: bytes, end: int) -> list[bytes]:
    """The lines below one, as far as they are at hand."""
    lines = []
    for _ in range(_AFTER):
        if end < 0 or end + 1 >= len(block):
            break
        next_end = block.find(b"\n", end + 1)
        lines.append(block[end + 1 : next_end if next_end >= 0 else len(block)])
        end = next_end
    return lines


def decisive_of(readings: Sequence[Reading]) -> Reading:
    """The reading of several whose decisive line is the first cause of all: by the moments that the lines tell.

    A line that names a cause goes before one that only tells of a failed step; without moments the order given counts.
    """
    weights = {Role.CAUSE: 0, Role.FAILURE: 1, Role.FOLLOWS: 2}

    def weight(reading: Reading) -> tuple[int, str]:
        decisive = reading.decisive
        if decisive is None:
            return 9, ""
        is_vague = decisive.entry is None or decisive.is_warning
        return weights[decisive.role] + is_vague, moment_in(decisive.text)

    return min(readings, key=weight)


_MOMENT = re.compile(r"(\d{4})[-/.](\d\d)[-/.](\d\d)[T ](\d\d):(\d\d):(\d\d)")


def moment_in(text: str) -> str:
    """The moment with which a line begins, so that earlier ones sort first; empty where there is none."""
    found = _MOMENT.search(text[:_STAMP])
    return "".join(found.groups()) if found else ""
