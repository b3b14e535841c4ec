"""Which version a file says it has."""

from fundamen.machine.machine import Machine
from fundamen.model.binary import Binary, Format
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath


def version_of(machine: Machine, path: MachinePath, binary: Binary) -> str | None:
    """The version in numbers, as the file's own resource gives it; None where it gives none that can be read."""
    if binary.format is not Format.PE:
        return None  # an ELF file has no version of its own; its SONAME names the interface
    from fundamen.formats.pe import Pe  # noqa: PLC0415 - a Linux program is traced without it
    from fundamen.formats.pe_version import read_version  # noqa: PLC0415

    assert isinstance(binary, Pe)  # noqa: S101 - its format says so
    try:
        with machine.open(path) as source:
            info = read_version(source, binary)
    except UnreadableError:
        return None
    return info.file_version if info is not None else None
