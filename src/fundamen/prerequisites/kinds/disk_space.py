"""Space on a disk."""

import os

from fundamen.messages import UNSAID, Message, say
from fundamen.model.paths import HostPath, MachinePath
from fundamen.prerequisites.answer import Answer, met_if
from fundamen.prerequisites.comparison import amount_of
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement

_MIB = 1 << 20


class DiskSpace(Requirement, frozen=True, kw_only=True, tag="disk space"):
    """The file system that a path is on, or will be on, has room."""

    path: Path
    at_least: int | str  # bytes, or as "2G"
    files: int = 0  # that may still be made on it

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.free-where-lies", at_least=self.at_least, path=self.path)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.make-room-or-name-another-place")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return (
            UNSAID
            if amount_of(self.at_least) is not None
            else say("prerequisites.is-no-size-such-as-2g", at_least=self.at_least)
        )

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        path = asked.machine.host_path(MachinePath(self.path))
        while not os.path.exists(path) and os.path.dirname(path) != path:  # the part of it that is there already
            path = HostPath(os.path.dirname(path))
        return free_of(path, self.at_least, self.files)


def free_of(path: HostPath, at_least: int | str, files: int = 0) -> Answer:
    """Whether there is room for this account where a path lies. Source: statvfs(3), f_bavail, f_favail."""
    status = os.statvfs(path)
    free = status.f_bavail * status.f_frsize
    enough = free >= (amount_of(at_least) or 0) and (not files or not status.f_files or status.f_favail >= files)
    more = say("prerequisites.and-more-files-can-be-made", free=status.f_favail) if files else ""
    return met_if(enough, say("prerequisites.mib-are-free", free=free // _MIB, more=more))
