"""Space on a disk."""

import os

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
    def needed(self) -> str:
        """Name the need in a few words."""
        return f"{self.at_least} free where {self.path} lies"

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return "Make room, or name another place to the program; caches and logs first."

    def problem(self) -> str:
        """Find the fault of its fields, beyond their types."""
        return "" if amount_of(self.at_least) is not None else f"{self.at_least!r} is no size such as 2G"

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
    more = f", and {status.f_favail} more files can be made" if files else ""
    return met_if(enough, f"{free // _MIB} MiB are free{more}")
