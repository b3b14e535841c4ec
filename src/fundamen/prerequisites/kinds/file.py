"""A file, folder or link at its place."""

from collections.abc import Iterator
from typing import Literal

from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, met_if, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Digest, Path, Requirement


class File(Requirement, frozen=True, kw_only=True, tag="file"):
    """A file or folder is there, or is not, perhaps with this content or for this architecture."""

    path: Path
    is_a: Literal["file", "folder"] = "file"
    sha256: Digest = ""
    architecture: Architecture | None = None  # of a program or library
    absent: bool = False

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        if self.absent:
            return say("prerequisites.there-is-nothing-at", path=self.path)
        of = say("prerequisites.for", architecture=self.architecture) if self.architecture else UNSAID
        return say(
            "prerequisites.the",
            kind=self.is_a,
            path=self.path,
            of=of,
            more=say("prerequisites.with-the-content-that-belongs-there") if self.sha256 else "",
        )

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        if self.absent:
            return say("prerequisites.set-aside-do-not-delete-it", path=self.path)
        return say("prerequisites.find-who-brings-it-fundamen-sources", name=self.path.rpartition("/")[2])

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        entry = asked.machine.look(MachinePath(self.path))
        if entry.kind is EntryKind.BLOCKED:
            return unknown(say("prerequisites.it-cannot-be-looked-at", why=entry.why))
        stands = (
            say("prerequisites.it-does-not-exist")
            if entry.kind is EntryKind.ABSENT
            else say("prerequisites.it-is-a", kind=entry.kind)
        )
        if self.absent or entry.kind.value != self.is_a:
            return met_if(self.absent and entry.kind is EntryKind.ABSENT, stands)
        return next(map(unmet, self._wrong(asked)), met(stands))

    def _wrong(self, asked: CheckContext) -> Iterator[Message]:
        path = MachinePath(self.path)
        if self.sha256 and (found := digest_of(asked.machine, path)) != self.sha256:
            yield say("prerequisites.it-has-other-content-sha-256", found=found[:16], sha256=self.sha256[:16])
        if self.architecture is not None:
            has = asked.machine.binary(path).architecture
            if not has.serves(self.architecture):
                yield say("prerequisites.it-is-for", has=has)


def digest_of(machine: Machine, path: MachinePath) -> str:
    """SHA-256 of a file's content. Raises: UnreadableError."""
    return machine.digest(path, "sha256")
