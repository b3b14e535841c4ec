"""Does this machine run programs for the other word size too? Looked for where programs lie, within bounds."""

from collections.abc import Iterator

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import BinaryKind
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_OTHER = {
    Architecture.X86_64: Architecture.X86,
    Architecture.X86: Architecture.X86_64,
    Architecture.AARCH64: Architecture.ARM,
    Architecture.ARM: Architecture.AARCH64,
}
_PLACES = {
    Platform.WINDOWS: ("C:\\Program Files (x86)", "C:\\Program Files"),
    Platform.LINUX: ("/opt", "/usr/local/bin", "/usr/games", "/usr/bin"),
    Platform.MACOS: (),
}
_MOST_FILES, _MOST_DEPTH = 3000, 4


def other_width(architecture: Architecture) -> Architecture | None:
    """The architecture for the other word size whose programs the same processor may run; None where there is none."""
    return _OTHER.get(architecture)


def find_program_of(machine: Machine, architecture: Architecture) -> MachinePath | None:
    """A program of an architecture that lies where programs are put; None where none was found within bounds."""
    for count, path in enumerate(_programs(machine)):
        if count == _MOST_FILES:
            return None
        try:
            binary = machine.binary(path)
        except UnreadableError:
            continue
        machine.forget(path)
        if binary.kind is BinaryKind.PROGRAM and binary.architecture is architecture:
            return path
    return None


def _programs(machine: Machine) -> Iterator[MachinePath]:
    """Files that may be programs, by their name or mode."""
    waiting = [(MachinePath(place), 0) for place in _PLACES.get(machine.platform, ())]
    while waiting:
        folder, depth = waiting.pop(0)
        for name in machine.names(folder):
            path = machine.join(folder, name)
            entry = machine.look(path)
            if entry.kind is EntryKind.FOLDER and depth < _MOST_DEPTH and machine.real(path) == path:
                waiting.append((path, depth + 1))
            elif entry.kind is EntryKind.FILE and _may_be(machine, name, is_executable=entry.is_executable):
                yield path


def _may_be(machine: Machine, name: str, *, is_executable: bool) -> bool:
    return name.lower().endswith(".exe") if machine.platform is Platform.WINDOWS else is_executable
