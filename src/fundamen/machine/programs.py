"""Find the program that a person names."""

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath


def find_program(machine: Machine, name: str) -> MachinePath:
    """The path of a program: as it is named or, for a bare name on this host, where PATH finds it.

    A path at which nothing stands is given back as it is; whoever reads it says so.
    """
    path = machine.spelled(name)
    if not machine.is_live or machine.paths.basename(name) != name or machine.look(path).kind is not EntryKind.ABSENT:
        return path
    endings = ("", ".exe") if machine.platform is Platform.WINDOWS else ("",)
    for folder in machine.environment.get("PATH", "").split(machine.paths.pathsep):
        for ending in endings if machine.paths.isabs(folder) else ():
            found = machine.join(folder, name + ending)
            if machine.look(found).kind is EntryKind.FILE:
                return found
    return path
