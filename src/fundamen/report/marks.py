"""The marks beside verdicts: blocks of a foundation, and their form for terminals that cannot draw them."""

from fundamen.model.verdict import Verdict
from fundamen.prerequisites.answer import RequirementStanding

_MARKS: dict[Verdict | RequirementStanding, tuple[str, str]] = {
    Verdict.VERIFIED: ("■", "#"),  # a full block
    Verdict.UNVERIFIED: ("▤", "="),  # laid, but no one signed for it
    Verdict.MISSING: ("□", "_"),  # an empty place
    Verdict.WRONG_ARCHITECTURE: ("◧", "|"),  # fits one side only
    Verdict.CORRUPT: ("▧", "%"),  # cracked
    Verdict.OUTDATED: ("▥", "<"),
    Verdict.UNTRUSTED: ("▦", "?"),
    Verdict.SHADOWED: ("◪", "&"),
    Verdict.BLOCKED: ("▣", "@"),
    RequirementStanding.MET: ("■", "#"),
    RequirementStanding.UNMET: ("□", "_"),
    RequirementStanding.UNKNOWN: ("▨", "~"),  # behind a screen
}

# Numbers of the terminal's 256 colours: lichen for what stands, nothing for what may stand, brick for what does not.
GOOD, BAD = 108, 173
_COLOURS: dict[Verdict | RequirementStanding, int | None] = {
    Verdict.VERIFIED: GOOD,
    Verdict.UNVERIFIED: None,
    RequirementStanding.MET: GOOD,
    RequirementStanding.UNKNOWN: None,
}


def mark(verdict: Verdict | RequirementStanding, *, drawn: bool) -> str:
    """The mark of a verdict, as a drawn block or in ASCII."""
    return _MARKS[verdict][0 if drawn else 1]


def colour(verdict: Verdict | RequirementStanding) -> int | None:
    """The colour of a verdict's word; it only repeats what the word says."""
    return _COLOURS.get(verdict, BAD)
