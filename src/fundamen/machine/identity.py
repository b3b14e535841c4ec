"""Which machine it is, wherever its disk is mounted.

Sources: machine-id(5); the numbers of file systems as udev lists them below /dev/disk/by-uuid (of a Windows volume: its
serial number), else statvfs(3), f_fsid.
"""

import contextlib
import os
import re

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.paths import MachinePath

_MACHINE_ID = MachinePath("/etc/machine-id")
_VOLUMES = "/dev/disk/by-uuid"


def identity_of(machine: Machine) -> str:
    """Identity of a machine at a folder, different from that of its copies; empty for this host.

    Raises:
        OSError: its root cannot be looked at.
    """
    if machine.is_live:
        return ""
    status = os.stat(machine.root)
    own = _machine_id(machine) or _volume(machine.root, status.st_dev)
    return f"{own} {status.st_ino}"


def _machine_id(machine: Machine) -> str:
    """The number that a system gives itself; empty where it has none, or not yet."""
    if machine.paths.sep != "/" or machine.look(_MACHINE_ID).kind is not EntryKind.FILE:
        return ""
    found = re.fullmatch(rb"([0-9a-f]{32})\n?", machine.content(_MACHINE_ID, 100))
    return found[1].decode() if found is not None else ""


def _volume(root: str, device: int) -> str:
    with contextlib.suppress(OSError):
        for name in sorted(os.listdir(_VOLUMES)):
            if os.stat(os.path.join(_VOLUMES, name)).st_rdev == device:
                return name
    number = os.statvfs(root).f_fsid if hasattr(os, "statvfs") else 0
    return f"{number or device:x}"
