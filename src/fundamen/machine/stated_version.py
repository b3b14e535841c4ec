"""Which version a file says it has."""

from typing import TYPE_CHECKING

from fundamen.machine.machine import Machine
from fundamen.model.binary import Binary, Format
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_NOT_GIVEN = "0.0.0"  # what a linker writes into a Mach-O library where no one said a version

if TYPE_CHECKING:
    from fundamen.formats.windows.pe_version import VersionInfo


def version_of(machine: Machine, path: MachinePath, binary: Binary) -> str | None:
    """The version in numbers, as the file's own resource gives it; None where it gives none that can be read."""
    if binary.format is Format.MACHO:
        from fundamen.formats.mac.macho import MachO  # noqa: PLC0415 - only for files of this format

        part = binary.slice_for(binary.architecture) if isinstance(binary, MachO) else None
        return part.version if part is not None and part.version != _NOT_GIVEN else None
    if binary.format is not Format.PE:
        return None  # an ELF file has no version of its own; its SONAME names the interface
    info = version_info_of(machine, path)
    return info.file_version if info is not None else None


def product_version_of(machine: Machine, path: MachinePath) -> str:
    """Of which version of its product a file says it is; empty where it says nothing that can be read."""
    try:
        if machine.binary(path).format is not Format.PE:
            return ""
    except UnreadableError:
        return ""
    info = version_info_of(machine, path)
    return (info.product_version or "") if info is not None else ""


def version_info_of(machine: Machine, path: MachinePath) -> "VersionInfo | None":
    """All that a PE file's version resource says; None where there is none that can be read."""
    return machine.fact(path, _read_version_info)


def _read_version_info(machine: Machine, path: MachinePath) -> "VersionInfo | None":
    from fundamen.formats.windows.pe import Pe  # noqa: PLC0415 - a Linux program is traced without it
    from fundamen.formats.windows.pe_version import read_version  # noqa: PLC0415

    try:
        binary = machine.binary(path)
        with machine.open(path) as source:
            return read_version(source, binary) if isinstance(binary, Pe) else None
    except UnreadableError:
        return None
