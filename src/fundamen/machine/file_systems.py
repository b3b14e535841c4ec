"""Read the mounted file systems of this host. Source: proc_pid_mountinfo(5)."""

import functools
import os

# These number their files again each time they are mounted, or differently on each look.
_WITHOUT_NUMBERS = frozenset({"vfat", "msdos", "exfat", "overlay", "aufs", "9p", "virtiofs", "cifs", "smb3", "iso9660"})


def keeps_numbers(device: int) -> bool:
    """Whether a file system gives a folder the same inode number as long as it is there; False: no one can tell."""
    name = _types().get(device)
    return name is not None and name not in _WITHOUT_NUMBERS and not name.startswith("fuse")


def forbids_running(folder: int) -> bool:
    """Whether nothing is run from the file system of an open folder (mount(8), noexec); False where it is unknown."""
    return hasattr(os, "fstatvfs") and bool(os.fstatvfs(folder).f_flag & os.ST_NOEXEC)


@functools.cache
def _types() -> dict[int, str]:
    """The type of each mounted file system, by its device."""
    try:
        with open("/proc/self/mountinfo", encoding="utf-8", errors="replace") as file:
            lines = file.read().splitlines()
    except OSError:
        return {}
    found: dict[int, str] = {}
    for line in lines:
        mounted, _, of = line.partition(" - ")
        fields = mounted.split()
        if len(fields) > 2 and of:  # noqa: PLR2004 - the third is the device
            major, _, minor = fields[2].partition(":")
            found[os.makedev(int(major), int(minor))] = of.split()[0]
    return found
