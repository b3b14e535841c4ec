"""Check the abilities of the file system of a path."""

import os
import re
from typing import Literal

from fundamen.messages import UNSAID, Message, say
from fundamen.model.paths import HostPath, MachinePath
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Path, Requirement

# File systems as the kernel names them in /proc/mounts, and what they cannot keep. Source: proc_pid_mountinfo(5), the
# specifications of FAT, exFAT and ISO 9660; overlay and network file systems pass on what lies below and are not known.
_WITHOUT_LINKS = {"vfat", "msdos", "exfat", "iso9660"}
_FOLDS_CASE = {"vfat", "msdos", "exfat", "ntfs", "ntfs3", "hfs", "hfsplus"}
_OTHERS = {"fuse", "fuseblk", "nfs", "nfs4", "cifs", "smb3", "9p", "virtiofs"}
_ESCAPE = re.compile(r"\\([0-7]{3})")


class FileSystem(Requirement, frozen=True, kw_only=True, tag="file system"):
    """Where a path lies, there can be links, names that differ in case alone, programs that run, or writing."""

    path: Path
    can: tuple[Literal["links", "case", "execution", "writing"], ...]

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.the-file-system-of-is-good", path=self.path, can=", ".join(self.can))

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.put-it-on-another-file-system")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return UNSAID if self.can else say("prerequisites.it-is-not-said-what-it")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        path = asked.machine.host_path(MachinePath(self.path))
        while not os.path.exists(path) and os.path.dirname(path) != path:
            path = HostPath(os.path.dirname(path))
        if not hasattr(os, "statvfs"):
            return unknown(say("prerequisites.this-system-does-not-say"))
        flags, kind = os.statvfs(path).f_flag, _kind_of(path)
        if not kind:
            return unknown(say("prerequisites.the-system-does-not-say-what"))
        cannot = {
            "links": kind in _WITHOUT_LINKS,
            "case": kind in _FOLDS_CASE,
            "execution": bool(flags & os.ST_NOEXEC),
            "writing": bool(flags & os.ST_RDONLY),
        }
        lacking = [each for each in self.can if cannot[each]]
        if lacking:
            return unmet(say("prerequisites.it-is-mounted-so-that-it", kind=kind, lacking=", ".join(lacking)))
        if {"links", "case"} & set(self.can) and kind in _OTHERS:
            return unknown(say("prerequisites.it-is-which-passes-on-what", kind=kind))
        return met(say("prerequisites.it-is", value=kind))


def _kind_of(path: HostPath) -> str:
    """The kernel's name of the file system that a path of this host is on. Source: proc_pid_mountinfo(5)."""
    real, best, kind = os.path.realpath(path), "", ""
    try:
        with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as file:
            for line in file:
                mount, _, rest = line.partition(" - ")
                point = _ESCAPE.sub(lambda found: chr(int(found[1], 8)), mount.split(" ")[4])
                if len(point) >= len(best) and (real == point or real.startswith(point.rstrip("/") + "/")):
                    best, kind = point, rest.split(" ")[0]
    except OSError:
        return ""
    return kind
