"""Which architectures' programs a machine can start, as its own loaders tell."""

from fundamen.loaders.windows_processes import processes_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.widths import other_width
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SHELL = MachinePath("/bin/sh")  # every POSIX system has one; source: POSIX, XCU "sh"
# Source: the ABI supplements of the GNU C Library, "ABIList": where each architecture's programs look for their loader.
_LOADERS = {
    Architecture.X86: "/lib/ld-linux.so.2",
    Architecture.X86_64: "/lib64/ld-linux-x86-64.so.2",
    Architecture.ARM: "/lib/ld-linux-armhf.so.3",
    Architecture.AARCH64: "/lib/ld-linux-aarch64.so.1",
}


def own_architecture(machine: Machine) -> Architecture | None:
    """The architecture of the machine's own programs; None where it has none that tells."""
    if machine.platform is Platform.WINDOWS:
        return processes_of(machine).native
    try:
        return machine.binary(_SHELL).architecture
    except UnreadableError:
        return None


def startable_architectures(machine: Machine) -> tuple[Architecture, ...]:
    """Those whose programs can be started, the machine's own first; none where nothing tells."""
    own = own_architecture(machine)
    if own is None:
        return ()
    if machine.platform is Platform.WINDOWS:
        return (own, *processes_of(machine).others)
    other = other_width(own)
    loader = _LOADERS.get(other) if other is not None and machine.platform is Platform.LINUX else None
    has_loader = loader is not None and machine.look(MachinePath(loader)).kind is EntryKind.FILE
    return (own, other) if has_loader and other is not None else (own,)
