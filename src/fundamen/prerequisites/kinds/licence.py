"""A licence whose text the technician has accepted."""

import hashlib

from fundamen.messages import Message, say
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import MOST_BYTES, CheckContext, Path, Requirement


class LicenceRequirement(Requirement, frozen=True, kw_only=True, tag="licence"):
    """The text of a licence was shown and accepted on purpose; of another text that acceptance says nothing."""

    text: Path  # of the machine's file with the licence

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.the-licence-was-read-and-accepted", text=self.text)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.fundamen-prereqs-accept-sheet", text=self.text)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        digest = hashlib.sha256(licence_text(asked, self)).hexdigest()
        if asked.is_accepted(digest):
            return met(say("prerequisites.the-text-with-sha-256-was", digest=digest[:16]))
        return unmet(say("prerequisites.the-text-with-sha-256-was-not", digest=digest[:16]))


def licence_text(asked: CheckContext, licence: LicenceRequirement) -> bytes:
    """The text that is to be accepted. Raises: UnreadableError."""
    return asked.machine.content(MachinePath(licence.text), MOST_BYTES)
