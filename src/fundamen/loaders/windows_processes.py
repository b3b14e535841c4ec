"""Which processes a Windows machine can run, and which images each of them takes.

Source: Microsoft's "WOW64 Implementation Details", "File System Redirector", "Running 32-bit Applications", "Arm64EC
for Windows 11" and "Arm64X PE files"; for managed images, ECMA-335, II.25.3.3.1.
"""

import msgspec

from fundamen.formats.windows.pe import CliFlags, Pe
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

WINDOWS_FOLDER = MachinePath("C:\\Windows")
INNERMOST = "ntdll.dll"  # the one library that no system runs without

_FOLDERS_OF_NARROW = {Architecture.X86: "SysWOW64", Architecture.ARM: "SysArm32"}
_SHARED = ("catroot\\", "catroot2\\", "driverstore\\", "drivers\\etc\\", "logfiles\\", "spool\\")
_ON_ARM64 = {Architecture.X86_64, Architecture.ARM64EC}  # what an ARM64 system runs in one and the same kind of process


class Processes(msgspec.Struct, frozen=True):
    """Architectures that a machine's system runs, by the copies of its innermost library (ntdll.dll)."""

    native: Architecture | None  # None where the volume has no copy: then nothing is known
    others: tuple[Architecture, ...]

    @property
    def is_known(self) -> bool:
        """Whether the volume tells what its system runs."""
        return self.native is not None

    def runs(self, architecture: Architecture) -> bool:
        """Whether a process of an architecture can be started here; True also where nothing is known."""
        return self.native in {None, architecture} or architecture in self.others

    def takes(self, process: Architecture, image: Binary) -> bool:
        """Whether a process of an architecture can load an image."""
        if image.architecture is process or (image.architecture is Architecture.ANY and process is Architecture.X86):
            return True
        is_on_arm64 = process in _ON_ARM64 and self.native in {None, Architecture.AARCH64}
        return is_on_arm64 and not _ON_ARM64.isdisjoint({image.architecture, *image.also_for})

    def process_of(self, pe: Pe) -> Architecture:
        """The architecture of the process that a program is started in; managed code for any processor is given one."""
        if pe.architecture is not Architecture.ANY:
            return pe.architecture
        prefers_32_bits = pe.cli_flags is not None and CliFlags.PREFERS_32_BITS in pe.cli_flags
        if prefers_32_bits and self.runs(Architecture.X86):
            return Architecture.X86
        return self.native or Architecture.X86_64

    def __str__(self) -> str:
        return " and ".join(str(architecture) for architecture in (self.native, *self.others) if architecture)


def processes_of(machine: Machine) -> Processes:
    """Find out what the system on a machine runs."""
    innermost = _read(machine, "System32")
    if innermost is None:
        return Processes(None, ())
    others = [
        architecture
        for architecture, folder in _FOLDERS_OF_NARROW.items()
        if (found := _read(machine, folder)) is not None and found.architecture is architecture
    ]
    if innermost.also_for:  # an ARM64 system whose own libraries serve x86_64 processes too
        others += [Architecture.X86_64, Architecture.ARM64EC]
    return Processes(innermost.architecture, tuple(others))


def system_folder(machine: Machine, architecture: Architecture) -> MachinePath:
    """The system folder that programs of an architecture see.

    On a 64-bit system System32 holds the 64-bit libraries, SysWOW64 those of x86 and SysArm32 those of 32-bit ARM; on a
    32-bit system there is only System32.
    """
    redirected = machine.join(WINDOWS_FOLDER, _FOLDERS_OF_NARROW.get(architecture, "System32"))
    is_there = machine.look(redirected).kind is EntryKind.FOLDER
    return redirected if is_there else machine.join(WINDOWS_FOLDER, "System32")


def system_folders(machine: Machine) -> list[MachinePath]:
    """All system folders that are there, each for some width."""
    folders = [machine.join(WINDOWS_FOLDER, name) for name in ("System32", *_FOLDERS_OF_NARROW.values())]
    return [folder for folder in folders if machine.look(folder).kind is EntryKind.FOLDER]


def as_seen(machine: Machine, architecture: Architecture, path: MachinePath) -> MachinePath:
    """Where a path leads that a process of an architecture names.

    Below System32 a 32-bit process is led to its own system folder, but for a few folders that both widths share; the
    alias Sysnative leads it to the real System32.
    """
    own = system_folder(machine, architecture)
    system = machine.join(WINDOWS_FOLDER, "System32")
    if own == system:
        return path
    alias = machine.join(WINDOWS_FOLDER, "Sysnative")
    for folder, leads_to in ((alias, system), (system, own)):
        if machine.fold(path + "\\").startswith(machine.fold(folder + "\\")):
            below = path[len(folder) + 1 :]
            is_shared = folder == system and machine.fold(below + "\\").startswith(_SHARED)
            return path if is_shared else machine.join(leads_to, below)
    return path


def _read(machine: Machine, folder: str) -> Binary | None:
    try:
        return machine.binary(machine.join(WINDOWS_FOLDER, folder, INNERMOST))
    except UnreadableError:
        return None
