"""Find the program that a person names."""

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.paths import MachinePath


def find_program(machine: Machine, name: str) -> MachinePath:
    """The path of a program: as it is named or, for a bare name on this host, where PATH finds it.

    A path at which nothing stands is given back as it is; whoever reads it says so.
    """
    path = machine.spelled(name)
    if machine.is_live and "/" not in name and machine.look(path).kind is EntryKind.ABSENT:
        for folder in machine.environment.get("PATH", "").split(":"):
            if folder.startswith("/"):
                found = machine.join(folder, name)
                if machine.look(found).kind is EntryKind.FILE:
                    return found
    return path
