"""Read a text as a whole: which lines say something, which of them is the first cause, and what it all names."""

import re
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.clues.findings import Finding, find_in_line
from fundamen.clues.guessing import guess
from fundamen.clues.mentions import Mention, MentionKind, Mentions
from fundamen.clues.scanning import Scanned, Scanner, count_lines
from fundamen.clues.text import Encoding, Stream, blocks, clean
from fundamen.knowledge.entries import Knowledge, LineRole

SHORT = 200  # lines: of a shorter text every line is looked at
MOST_FINDINGS = 5_000
_GIVEN = re.compile(r"-|message(?: \d+)?")  # the names of what was piped in, or typed
_STAMP = 40  # characters at the beginning of a line in which digits are those of a time
_LONGEST_MESSAGE = 12  # lines that a person would copy or read out
_AFTER = 3  # lines below one that are looked at with it
_LONGEST_PASTE = 64 << 10  # bytes of a text that may be a message that someone has copied
_NEAR = 50  # lines


class Reading(msgspec.Struct, frozen=True, kw_only=True):
    """Findings and names of a text."""

    name: str  # of the file, or "-"
    lines: int
    encoding: str
    findings: tuple[Finding, ...]  # in the order of the text; what is said again and again only once
    mentions: tuple[Mention, ...]
    decisive: Finding | None  # the first cause
    also: tuple[Finding, ...]  # further causes, in the order of the text
    follows: tuple[Finding, ...]  # what only follows from them
    earlier: tuple[Finding, ...]  # what belongs to a run before, or was overcome
    is_of_a_file: bool  # and not piped in, or typed
    read_until: int | None = None  # the line behind which no more complaints were read; None where all were
    ended_well: bool  # the last thing that the text says of a run is that it ended well


class Reader:
    """Reads a text block by block; each line once."""

    def __init__(self, known: Knowledge, scanner: Scanner, name: str) -> None:
        self._known, self._scanner, self.name = known, scanner, name
        self.findings: list[Finding] = []
        self.mentions = Mentions()
        self.lines = 0
        self._spoken = self._whispered = 0  # findings that count, and others
        self.read_until: int | None = None  # the line behind which no complaint is read, for there are too many
        self._seen: set[bytes] = set()

    def feed(self, block: bytes, *, is_all: bool = False) -> list[Finding]:
        """Read the next lines; give what they say that was not said before.

        Args:
            block: whole lines, in UTF-8.
            is_all: whether it is the whole text, and no long one: then every line is looked at.
        """
        if is_all and block.count(b"\n") < SHORT and len(block) <= _LONGEST_PASTE:
            return self._feed_short(block)
        if self.is_full:
            return self.take(Scanned(count_lines(block), ()))
        return self.take(self._scanner.scan(block, self._seen, self.lines + 1))

    @property
    def is_full(self) -> bool:
        """Whether it has read as many complaints as it keeps; the rest is only counted."""
        return self.read_until is not None

    def take(self, scanned: Scanned) -> list[Finding]:
        """Read what was found in the next piece of the text, numbered from its beginning."""
        found: list[Finding] = []
        for candidate in scanned.candidates:
            if self._spoken >= MOST_FINDINGS:
                self.read_until = self.read_until or candidate.number - 1
                break
            text, below = clean(candidate.raw), [clean(line) for line in candidate.below]
            goes_on = bool(below) and candidate.below[0][:1].isspace()
            finding = find_in_line(self._known, self._scanner, text, candidate.number, below, joins=goes_on)
            if finding is None:
                continue
            if finding.is_aside or finding.is_quiet or finding.is_warning:
                self._whispered += 1
                if self._whispered > MOST_FINDINGS:
                    continue  # what hardly counts must not crowd out what does
            else:
                self._spoken += 1
            found.append(finding)
        self.lines += scanned.lines
        return self._keep(found)

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
        is_message = len(lines) <= _LONGEST_MESSAGE or (found and len(lines) <= SHORT // 4)
        if is_message and all(finding.role is LineRole.FOLLOWS or finding.entry is None for finding in found):
            loud = {finding.line for finding in found if finding.is_loud}
            guessed = guess(self._known, lines, loud)
            if guessed is not None:
                found = sorted([*found, guessed], key=lambda each: each.line)
        self.lines += len(lines)
        return self._keep(found)

    def _keep(self, found: list[Finding]) -> list[Finding]:
        for finding in found:
            self.mentions.add_holes(finding.holes.items(), finding.line)
            for code in finding.codes:
                self.mentions.add(MentionKind.CODE, code.name, finding.line)
            if finding.role in {LineRole.CAUSE, LineRole.FAILURE}:
                self.mentions.add_text(finding.text, finding.line)
        self.findings += found
        return found

    def result(self, encoding: str = "utf-8") -> Reading:
        """The findings so far, weighed."""
        reading = weigh_findings(self.name, self.lines, encoding, self.findings, self.mentions.all())
        return msgspec.structs.replace(reading, read_until=self.read_until)


def read_text(known: Knowledge, scanner: Scanner, stream: Stream, name: str) -> Reading:
    """Read a text from its beginning to its end.

    Raises:
        UnreadableError: it is no text.
    """
    encoding = Encoding()
    reader = Reader(known, scanner, name)
    coming = blocks(stream, name, encoding)
    first = next(coming, b"") + next(coming, b"")  # the last line of a short text may come by itself
    third = next(coming, None)
    reader.feed(first, is_all=third is None)
    if third is not None:
        reader.feed(third)
        for block in coming:
            reader.feed(block)
    return reader.result(encoding.name)


def weigh_findings(
    name: str, lines: int, encoding: str, findings: Sequence[Finding], mentions: tuple[Mention, ...]
) -> Reading:
    """Tell the first cause from what follows from it.

    What counts is what was said since the last run began or the last one ended well, and was not retracted. Of that
    the first cause is decisive; where none is named, the first step that failed; where all has only followed, that.
    """
    last = max((i for i, each in enumerate(findings) if each.role in {LineRole.BEGINS, LineRole.DONE}), default=-1)
    since = [each for each in findings[last + 1 :] if each.role not in {LineRole.BEGINS, LineRole.DONE}]
    is_done = last >= 0 and findings[last].role is LineRole.DONE
    if last >= 0 and not is_done and all(each.is_aside or each.is_quiet for each in since):
        since, last = [each for each in findings if each.role not in {LineRole.BEGINS, LineRole.DONE}], -1
    counting = _findings_that_count(since, lines)
    causes = _without_outer([each for each in counting if each.role is LineRole.CAUSE])
    causes = [each for each in causes if not each.is_guess]
    causes = [each for each in causes if not each.is_quiet] or causes
    failures = [each for each in counting if each.role is LineRole.FAILURE or each.is_guess]
    decisive = next(iter(causes or failures or counting), None)
    also = tuple(_different(causes, decisive))
    shown = {id(each) for each in (decisive, *also)}
    return Reading(
        name=name,
        lines=lines,
        encoding=encoding,
        findings=tuple(findings),
        mentions=mentions,
        decisive=decisive,
        also=also,
        follows=tuple(each for each in counting if id(each) not in shown),
        earlier=tuple(each for each in findings[: last + 1] if each.role is LineRole.CAUSE),
        is_of_a_file=_GIVEN.fullmatch(name) is None,
        ended_well=is_done and decisive is None,
    )


def _findings_that_count(since: Sequence[Finding], lines: int) -> list[Finding]:
    """Findings that count: signs of failure that were not overcome later and are supported.

    In a message that was copied everything counts. In a log, what is said as mere information or as a warning counts
    where something fails behind it; and what is said without any level, where something fails behind it or it stands
    near the end, for a log that goes on and on after a complaint tells of no failure.
    """
    spoken = [each for each in since if not each.is_aside]
    if lines <= SHORT // 4:
        plain = [each for each in spoken if not each.is_quiet]
        until = plain[-1].line if plain else 0
        shown = [each for each in spoken if not each.is_quiet or each.line < until]
        return (
            shown or [each for each in spoken if each.entry is not None] or list(since[:1] if lines <= _AFTER else ())
        )
    failing = [each.line for each in spoken if each.is_loud or (each.role is LineRole.FOLLOWS and not each.is_quiet)]

    def counts(finding: Finding) -> bool:
        if finding.is_loud:
            return True
        reach = _NEAR if finding.is_warning or finding.is_quiet else lines
        is_borne_out = any(finding.line < line <= finding.line + reach for line in failing)
        is_open = not finding.is_quiet and not finding.is_warning
        return is_borne_out or (is_open and finding.line > lines - _NEAR)

    return [each for each in spoken if counts(each)]


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


def decisive_of(readings: Sequence[Reading]) -> Reading:
    """The reading of several whose decisive line is the first cause of all: by the moments that the lines tell.

    A line that names a cause goes before one that only tells of a failed step; without moments the order given counts.
    """
    weights = {LineRole.CAUSE: 0, LineRole.FAILURE: 1, LineRole.FOLLOWS: 2}

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
