"""The marks beside verdicts: blocks of a foundation, and their form for terminals that cannot draw them."""

from fundamen.model.verdict import Verdict

_MARKS = {
    Verdict.SOUND: ("■", "#"),  # a full block
    Verdict.UNPROVEN: ("▤", "="),  # laid, but nobody signed for it
    Verdict.MISSING: ("□", "_"),  # an empty place
    Verdict.WRONG_ARCHITECTURE: ("◧", "|"),  # fits one side only
    Verdict.CORRUPT: ("▧", "%"),  # cracked
    Verdict.OUTDATED: ("▥", "<"),
    Verdict.UNTRUSTED: ("▦", "?"),
    Verdict.SHADOWED: ("◪", "&"),
    Verdict.BLOCKED: ("▣", "@"),
}

_COLOURS = {Verdict.SOUND: "green", Verdict.UNPROVEN: None}
_FAULT_COLOUR = "bright_red"


def mark(verdict: Verdict, *, drawn: bool) -> str:
    """The mark of a verdict, as a drawn block or in ASCII."""
    return _MARKS[verdict][0 if drawn else 1]


def colour(verdict: Verdict) -> str | None:
    """The colour of a verdict's word; it only repeats what the word says."""
    return _COLOURS.get(verdict, _FAULT_COLOUR)
