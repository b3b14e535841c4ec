"""A command that must succeed: shown before it runs, and run only with consent."""

import shlex
import subprocess
from typing import Annotated, ClassVar

import msgspec

from fundamen.messages import UNSAID, Message, say
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Requirement, Seconds, Text, only_live

Argument = Annotated[str, msgspec.Meta(max_length=4096, pattern=r"^[^\x00]*$")]

_LONGEST = 200  # characters of what it says that are shown


class CommandRequirement(Requirement, frozen=True, kw_only=True, tag="command"):
    """A command ends with a status, and perhaps says something. It is given no input, and no shell reads it."""

    runs: Annotated[tuple[Argument, ...], msgspec.Meta(min_length=1, max_length=100)]
    status: int = 0
    says: Text = ""  # stands in what it writes
    seconds: Seconds = 10.0

    waits: ClassVar[bool] = True

    @property
    def in_words(self) -> str:
        """The command as it could be pasted."""
        return shlex.join(self.runs)

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        says = say("prerequisites.and-says", says=self.says) if self.says else UNSAID
        return say("prerequisites.the-command-ends-with-status", words=self.in_words, status=self.status, says=says)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.run-it-by-hand-and-read", words=self.in_words)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if not asked.machine.is_live:
            return only_live(asked.machine)
        if not asked.may_run:
            return unknown(say("prerequisites.it-was-not-run-a-command"))
        try:
            done = subprocess.run(
                self.runs,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                timeout=self.seconds,
                check=False,
                env=dict(asked.machine.environment),
            )
        except subprocess.TimeoutExpired:
            return unknown(say("prerequisites.it-does-not-end-within-s", seconds=self.seconds))
        except OSError as error:
            return unmet(say("prerequisites.it-cannot-be-run", strerror=error.strerror))
        said = " ".join(done.stdout.decode("utf-8", "replace").split())
        found = say(
            "prerequisites.it-ends-with-status",
            returncode=done.returncode,
            more=say("prerequisites.and-says-said", said=said[:_LONGEST]) if said else "",
        )
        return met(found) if done.returncode == self.status and self.says in said else unmet(found)
