"""Links that lead to nothing."""

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.paths import MachinePath


def dangling_target(machine: Machine, path: MachinePath) -> MachinePath | None:
    """Where the link at a path leads, if nothing is there; None where it is no link, or leads to something."""
    if machine.look(path).kind is not EntryKind.ABSENT:
        return None
    at = machine.join(machine.real(machine.folder_of(path)), machine.paths.basename(path))
    target = machine.real(path)
    return target if target != at else None
