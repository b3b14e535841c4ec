"""Choose the loader that a program meets on a machine, and ask it."""

from fundamen.formats.elf import Elf
from fundamen.formats.pe import Pe
from fundamen.loaders.load_map import LoadMap
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath, shown


def load_map(machine: Machine, program: MachinePath) -> LoadMap:
    """Find all that a program or library needs, as the machine's own loader would.

    Raises:
        UnreadableError: it cannot be read, is no program, or is one for another operating system.
    """
    binary = machine.binary(program)
    if isinstance(binary, Elf) and machine.platform is Platform.LINUX:
        from fundamen.loaders import glibc  # noqa: PLC0415 - only the loader that is met is imported

        return glibc.load_map(machine, program, binary)
    if isinstance(binary, Pe) and machine.platform is Platform.WINDOWS:
        from fundamen.loaders import windows  # noqa: PLC0415

        return windows.load_map(machine, program, binary)
    wanted = {Platform.LINUX: "Linux", Platform.WINDOWS: "Windows"}
    is_for = "Linux" if isinstance(binary, Elf) else "Windows"
    raise UnreadableError(
        what=f"{shown(program)} cannot be traced on {machine.title}",
        why=f"it is made for {is_for}, and the machine runs {wanted[machine.platform]} programs",
        do=f"Name the {is_for} machine it belongs to with --machine FOLDER.",
    )


def system_folder(machine: Machine, architecture: Architecture) -> MachinePath:
    """The folder where the machine's loader looks for system libraries of an architecture."""
    if machine.platform is Platform.WINDOWS:
        from fundamen.loaders import windows  # noqa: PLC0415

        return windows.system_folder(machine, architecture)
    from fundamen.loaders import glibc  # noqa: PLC0415

    return MachinePath(glibc.system_folders(machine, None, architecture)[0])
