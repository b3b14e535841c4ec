"""Where Fundamen keeps its own state about a machine."""

import hashlib
import os
from typing import TYPE_CHECKING

from fundamen.machine.machine import Machine
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import write_whole

if TYPE_CHECKING:
    from fundamen.restore.journal import Journal

_DIGITS = 16


def kept_bytes(home: HostPath, data: bytes) -> HostPath:
    """Our own copy of some bytes that are to be placed, by their digest. Raises: OSError."""
    path = os.path.join(home, "content", hashlib.sha256(data).hexdigest())
    write_whole(path, data)
    return HostPath(path)


def folder_of(machine: Machine, home: HostPath) -> HostPath:
    """Where what is kept of a machine lies: this host has its own folder, a mounted one by where it is mounted."""
    key = "this-machine"
    if machine.root != "/":
        key = hashlib.sha256(os.fsencode(os.path.realpath(machine.root))).hexdigest()[:_DIGITS]
    return HostPath(os.path.join(home, "machines", key))


def journal_of(machine: Machine, home: HostPath) -> "Journal":
    """The journal of a machine."""
    from fundamen.restore.journal import Journal  # noqa: PLC0415 - whoever only looks needs none
    from fundamen.restore.records import Site  # noqa: PLC0415

    return Journal(Site(machine, folder_of(machine, home)))
