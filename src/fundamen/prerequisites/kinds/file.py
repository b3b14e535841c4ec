"""A file, folder or link at its place."""

from collections.abc import Iterator
from typing import Literal

from fundamen.machine.machine import EntryKind, Machine
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
    def needed(self) -> str:
        """Name the need in a few words."""
        if self.absent:
            return f"there is nothing at {self.path}"
        of = f" for {self.architecture}" if self.architecture else ""
        return f"the {self.is_a} {self.path}{of}{' with the content that belongs there' if self.sha256 else ''}"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        if self.absent:
            return f"Set {self.path} aside; do not delete it."
        return f"Find who brings it: fundamen sources offers {self.path.rpartition('/')[2]}"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        entry = asked.machine.look(MachinePath(self.path))
        if entry.kind is EntryKind.BLOCKED:
            return unknown(f"it cannot be looked at: {entry.why}")
        stands = "it does not exist" if entry.kind is EntryKind.ABSENT else f"it is a {entry.kind}"
        if self.absent or entry.kind.value != self.is_a:
            return met_if(self.absent and entry.kind is EntryKind.ABSENT, stands)
        return next(map(unmet, self._wrong(asked)), met(stands))

    def _wrong(self, asked: CheckContext) -> Iterator[str]:
        path = MachinePath(self.path)
        if self.sha256 and (found := digest_of(asked.machine, path)) != self.sha256:
            yield f"it has other content: SHA-256 {found[:16]}..., not {self.sha256[:16]}..."
        if self.architecture is not None:
            has = asked.machine.binary(path).architecture
            if not has.serves(self.architecture):
                yield f"it is for {has}"


def digest_of(machine: Machine, path: MachinePath) -> str:
    """SHA-256 of a file's content. Raises: UnreadableError."""
    return machine.digest(path, "sha256")
