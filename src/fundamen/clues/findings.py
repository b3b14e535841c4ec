"""Find known messages and codes in one line."""

import re
from collections.abc import Iterator, Sequence

import msgspec

from fundamen.clues.scanning import Scanner
from fundamen.formats.decimal import read_decimal
from fundamen.knowledge.entries import Code, Knowledge, KnownMessage, LineRole
from fundamen.knowledge.sentence import SentenceMatch

# Words by which a line retracts what it says: it was expected, or something else took its place.
_HEDGE = re.compile(
    r"\b(?:optional(?:ly)?|ignor(?:e|es|ed|ing)|skip(?:s|ped|ping)?|fall(?:s|ing)? ?back|fallback|harmless|non-fatal|"
    r"continu(?:es|ed|ing)|retry(?:ing)?|retries|try(?:ing)? again|not fatal|using (?:the )?(?:default|built-in)|"
    r"instead|"
    r"(?<!finish )(?<!work )as expected|expected failure|recovered|self-test|no errors?|0 errors?|errors?[:=] ?0|"
    r"0 failed|"
    r"failed[:=] ?0|(?<!not )(?<!complete )successfully|nothing to do|suppressed|will be created|creating it|"
    r"not needed|disabled in|"
    r"is fixed)\b|^(?:raise|throw) ",
    re.IGNORECASE,
)
_PASSED_OVER = "skipping incompatible"  # a linker's word for a library of the wrong width: no hedge at all
_QUIET = re.compile(
    r"(?:^|[\s\[<(|:])(?:DEBUG|TRACE|VERBOSE|INFO|NOTICE|FINE|FINER|debug|trace|info|notice|fixme)[\]>)|:]?[\s\[:]|"
    r" = -1 E[A-Z]+ \("  # a system call as it is traced: most of what is not found is not needed
)
_WARNING = re.compile(r"(?:^|[\s\[<(|:])(?:WARN|WARNING|Warning|warning|warn)[\]>)|:]?(?:[\s:]|$)|^W: ")
_LOUD = re.compile(
    r"(?:^|[\s\[<(|])(?:ERROR|FATAL|CRITICAL|SEVERE|EMERG|ALERT|CRIT|PANIC|error|fatal|emerg|crit|alert)[\]>)|:](?:\s|$)|"
    r"(?:^|\s)(?:ERROR|FATAL|CRITICAL|SEVERE|Fatal error|E:)\s|:\s\*\*\*\s|"
    r"^(?:---> |Caused by: )?(?:[A-Za-z_]\w*\.)*[A-Z]\w*(?:Error|Exception)(?::\s|$)|"  # an exception by its name
    r"\([A-Z]\w*(?:::\w+)*(?:Error|Exception)\)$|^\w*Error \[\w+\]: |: (?:syntax|parse) error\b|"
    r"\berror:[0-9A-Fa-f]{8}:|"  # of OpenSSL
    r"(?:^|-- )Error \d{4,5}[.:]"  # of an installer ("Windows Installer Error Messages")
)
# A code that stands for itself: eight hexadecimal digits, or the same as a decimal number with or without its sign.
_NUMBER = re.compile(r"(?<![\w.-])(?:(?:0[xX])?([89A-Ca-c][0-9A-Fa-f]{7})|(-?[1-4]\d{9}))(?!\w|\.\w)")
_LEVEL_WITHIN = 120  # characters: the level stands at the beginning of a line
_ROLES = {LineRole.CAUSE: 4, LineRole.FAILURE: 3, LineRole.FOLLOWS: 2, LineRole.BEGINS: 1, LineRole.DONE: 1}


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """A line that says something."""

    line: int  # from 1
    text: str
    entry: KnownMessage | Code | None  # None: it complains in words that are not known here
    role: LineRole
    holes: dict[str, str]
    codes: tuple[Code, ...] = ()
    is_aside: bool = False  # it retracts itself what it says
    is_quiet: bool = False  # it is said as mere information
    is_warning: bool = False
    is_loud: bool = False  # it says of itself that it is an error
    is_guess: bool = False  # it only reads much like a known message
    lines: int = 1  # how many lines of the text it goes over


def find_in_line(
    known: Knowledge, scanner: Scanner, text: str, line: int, after: Sequence[str] = (), *, joins: bool = False
) -> Finding | None:
    """The finding in a line; None where there is none.

    Args:
        known: messages and codes.
        scanner: over the same knowledge.
        text: of the line, cleaned.
        line: its number.
        after: the lines below it, cleaned.
        joins: whether a message may go on in them.
    """
    matches = list(_messages(scanner, text))
    lines = 1
    if joins:
        for count in range(1, len(after) + 1):
            joined = "\n".join([text, *after[:count]])
            longer = [match for match in _messages(scanner, joined) if match[2].begin < len(text)]
            if _best(longer, default=0) > _best(matches, default=0):
                matches, lines = longer, count + 1
    codes = tuple(dict.fromkeys(_codes(known, scanner, " ".join([text, *after[: lines - 1]]))))
    if not matches and not codes:
        loud = _LOUD.search(text[:_LEVEL_WITHIN])
        if loud is None or _HEDGE.search(text):
            return None
        return Finding(line=line, text=text, entry=None, role=LineRole.FAILURE, holes={}, is_loud=True)
    entry, holes = _choose_entry(matches, codes)
    return Finding(
        line=line,
        text=text,
        entry=entry,
        role=entry.role,
        holes=holes,
        codes=codes,
        is_aside=_takes_back(text, after[0] if after else ""),
        is_quiet=_is_quiet(text[:_LEVEL_WITHIN]),
        is_loud=_LOUD.search(text[:_LEVEL_WITHIN]) is not None,
        is_warning=_WARNING.search(text[:_LEVEL_WITHIN]) is not None,
        lines=lines,
    )


def _messages(scanner: Scanner, text: str) -> Iterator[tuple[KnownMessage, int, SentenceMatch]]:
    """(message, how much its sentence tells, what was found) for each message that a line says, each once."""
    best: dict[str, tuple[KnownMessage, int, SentenceMatch]] = {}
    lowered = text.lower().replace("\n", " ")
    for wanted in scanner.wanted_by(text):
        for message, sentence in wanted.sentences:
            if sentence.anchor in lowered and (found := sentence.find(text)) is not None:
                weight = sentence.weight + 5 * len(found.holes)
                if message.id not in best or best[message.id][1] < weight:
                    best[message.id] = (message, weight, found)
    yield from best.values()


def _codes(known: Knowledge, scanner: Scanner, text: str) -> Iterator[Code]:
    """The codes that a line names: by values that stand for themselves, by names, by what is said around them."""
    for found in _NUMBER.finditer(text):
        value = int(found[1], 16) if found[1] else int(found[2]) % (1 << 32)
        if (code := known.alone.get(value)) is not None:
            yield code
    for wanted in scanner.wanted_by(text):
        yield from (code for code in wanted.codes if re.search(rf"(?<!\w){code.name}(?!\w)", text))
        for space, sentence in wanted.contexts:
            said = sentence.find(text) if sentence.anchor in text.lower() else None
            digits = said.holes.get("code", "") if said else ""
            number = _hexadecimal(digits) if digits.lower().startswith(("0x", "-0x")) else _decimal(digits)
            if number is not None and (code := known.code(space, number)) is not None:
                yield code


def _hexadecimal(digits: str) -> int | None:
    return int(digits, 16) if re.fullmatch(r"-?0[xX][0-9A-Fa-f]{1,16}", digits) else None


def _decimal(digits: str) -> int | None:
    number = read_decimal(digits.removeprefix("-"))
    return -number if number is not None and digits.startswith("-") else number


def _weight(match: tuple[KnownMessage, int, SentenceMatch]) -> int:
    message, weight, _ = match
    return _ROLES[message.role] * 1000 + weight


def _best(matches: Sequence[tuple[KnownMessage, int, SentenceMatch]], default: int) -> int:
    return max(map(_weight, matches), default=default)


def _choose_entry(
    matches: list[tuple[KnownMessage, int, SentenceMatch]], codes: tuple[Code, ...]
) -> tuple[KnownMessage | Code, dict[str, str]]:
    """The entry that tells most of a line, and what stood in the holes."""
    matches.sort(key=_weight, reverse=True)
    causes = [code for code in codes if code.role is LineRole.CAUSE]
    if not matches:
        return (causes or list(codes))[0], {}
    message, _, found = matches[0]
    has_code_cause = causes and message.role is LineRole.FAILURE
    return (causes[0] if has_code_cause else message), found.holes


def _is_quiet(head: str) -> bool:
    return _QUIET.search(head) is not None and not (_WARNING.search(head) or _LOUD.search(head))


def _takes_back(text: str, after: str) -> bool:
    head = text[:_LEVEL_WITHIN]
    if _LOUD.search(head):
        return False
    if _PASSED_OVER in text:
        return False
    is_taken_back_below = _QUIET.search(after[:_LEVEL_WITHIN]) is not None and _HEDGE.search(after) is not None
    return _HEDGE.search(text) is not None or is_taken_back_below
