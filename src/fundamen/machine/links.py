"""Links that lead to nothing."""

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.paths import MachinePath


def is_gone(machine: Machine, path: MachinePath) -> bool:
    """Whether nothing is at a path, not even a link that leads to nothing."""
    return machine.look(path).kind is EntryKind.ABSENT and dangling_target(machine, path) is None


def dangling_target(machine: Machine, path: MachinePath) -> MachinePath | None:
    """Where the link at a path leads, if nothing is there; None where it is no link, or leads to something."""
    if machine.is_known_absent(path) or machine.look(path).kind is not EntryKind.ABSENT:
        return None
    target = machine.real(path)
    return target if target != machine.own_place(path) else None
