"""Where Fundamen keeps its own state about a machine."""

import hashlib
import os

from fundamen.machine.machine import Machine
from fundamen.model.paths import HostPath
from fundamen.restore.journal import Journal

_DIGITS = 16


def journal_of(machine: Machine, home: HostPath) -> Journal:
    """The journal of a machine: this host has its own, a mounted one has one by the folder it is mounted at."""
    key = "this-machine"
    if machine.root != "/":
        key = hashlib.sha256(os.fsencode(os.path.realpath(machine.root))).hexdigest()[:_DIGITS]
    return Journal(HostPath(os.path.join(home, "machines", key)))
