"""Where Fundamen keeps its own state about a machine."""

import hashlib
import os

from fundamen.machine.machine import Machine
from fundamen.model.paths import HostPath
from fundamen.restore.journal import Journal
from fundamen.sources.writing import write_whole

_DIGITS = 16


def kept_bytes(home: HostPath, data: bytes) -> HostPath:
    """Our own copy of some bytes that are to be placed, by their digest. Raises: OSError."""
    path = os.path.join(home, "content", hashlib.sha256(data).hexdigest())
    write_whole(path, data)
    return HostPath(path)


def journal_of(machine: Machine, home: HostPath) -> Journal:
    """The journal of a machine: this host has its own, a mounted one has one by the folder it is mounted at."""
    key = "this-machine"
    if machine.root != "/":
        key = hashlib.sha256(os.fsencode(os.path.realpath(machine.root))).hexdigest()[:_DIGITS]
    return Journal(HostPath(os.path.join(home, "machines", key)))
