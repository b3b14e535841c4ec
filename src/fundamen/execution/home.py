"""Where Fundamen keeps its own state about a machine."""

import hashlib
import os
from typing import TYPE_CHECKING

from fundamen.machine.identity import identity_of
from fundamen.machine.machine import Machine
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import write_whole
from fundamen.placing.own_folder import take_over

if TYPE_CHECKING:
    from fundamen.changes.base import Password
    from fundamen.execution.journal import Journal

_DIGITS = 16


def kept_bytes(home: HostPath, data: bytes) -> HostPath:
    """Our own copy of some bytes that are to be placed, by their digest. Raises: OSError."""
    path = os.path.join(home, "content", hashlib.sha256(data).hexdigest())
    write_whole(path, data)
    return HostPath(path)


def folder_of(machine: Machine, home: HostPath) -> HostPath:
    """Where what is kept of a machine lies: by which machine it is, and not by where it is mounted.

    What an older version has kept by where it was mounted is taken over once.
    """
    machines = os.path.join(home, "machines")
    identity = identity_of(machine)
    folder = os.path.join(machines, _key(identity) if identity else "this-machine")
    if identity and not os.path.exists(folder):
        take_over(os.path.join(machines, _key(os.path.realpath(machine.root))), folder)
    return HostPath(folder)


def _key(text: str) -> str:
    return hashlib.sha256(os.fsencode(text)).hexdigest()[:_DIGITS]


def journal_of(machine: Machine, home: HostPath, password: "Password | None" = None) -> "Journal":
    """The journal of a machine; with a password its restorations may change an entry of a directory."""
    from fundamen.changes.base import Site  # noqa: PLC0415
    from fundamen.execution.journal import Journal  # noqa: PLC0415 - looking needs none

    return Journal(Site(machine, folder_of(machine, home), password))
