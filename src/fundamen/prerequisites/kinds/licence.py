"""A licence whose text the technician has accepted."""

import hashlib

from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import MOST_BYTES, CheckContext, Path, Requirement


class LicenceRequirement(Requirement, frozen=True, kw_only=True, tag="licence"):
    """The text of a licence was shown and accepted on purpose; of another text that acceptance says nothing."""

    text: Path  # of the machine's file with the licence

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        return f"the licence {self.text} was read and accepted"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return f"fundamen prereqs --accept {self.text} SHEET"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        digest = hashlib.sha256(licence_text(asked, self)).hexdigest()
        if asked.is_accepted(digest):
            return met(f"the text with SHA-256 {digest[:16]}... was accepted")
        return unmet(f"the text with SHA-256 {digest[:16]}... was not accepted")


def licence_text(asked: CheckContext, licence: LicenceRequirement) -> bytes:
    """The text that is to be accepted. Raises: UnreadableError."""
    return asked.machine.content(MachinePath(licence.text), MOST_BYTES)
