"""Read the built-in folders and the release of the GNU C library's loader.

Source: glibc's elf/dl-load.c (system_dirs), elf/dl-usage.c and csu/version.c for the banner.
"""

import re

from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_BYTES = 4 << 20
_FOLDERS = re.compile(rb"(?:/(?:usr/)?lib[\w/.+-]*/\0){2,}")  # one run of NUL-terminated folders, each with its slash
_RELEASE = re.compile(rb"stable release version (\d{1,3})\.(\d{1,3})")

# Where the loader itself cannot be read: the folders of Debian's multiarch and of the FHS.
_MULTIARCH = {
    Architecture.X86: "i386-linux-gnu",
    Architecture.X86_64: "x86_64-linux-gnu",
    Architecture.ARM: "arm-linux-gnueabihf",
    Architecture.AARCH64: "aarch64-linux-gnu",
    Architecture.RISCV64: "riscv64-linux-gnu",
    Architecture.PPC64LE: "powerpc64le-linux-gnu",
    Architecture.S390X: "s390x-linux-gnu",
}


def read_folders(machine: Machine, interpreter: MachinePath) -> tuple[str, ...]:
    """The default folders that are built into a loader; empty where they cannot be read."""
    return machine.fact(interpreter, _read_folders)


def read_release(machine: Machine, interpreter: MachinePath) -> tuple[int, int]:
    """The release of glibc that a loader belongs to, such as (2, 36); (0, 0) where it cannot be read."""
    return machine.fact(interpreter, _read_release)


def system_folders(machine: Machine, interpreter: MachinePath | None, architecture: Architecture) -> tuple[str, ...]:
    """The default folders of a loader: read from the loader's own file, or the usual ones where that cannot be read."""
    if interpreter is not None and (built_in := read_folders(machine, interpreter)):
        return built_in
    multiarch = _MULTIARCH.get(architecture)
    folders: tuple[str, ...] = (f"/lib/{multiarch}", f"/usr/lib/{multiarch}") if multiarch else ()
    if architecture not in {Architecture.X86, Architecture.ARM}:
        folders += ("/lib64", "/usr/lib64")
    return (*folders, "/lib", "/usr/lib")


def _read_folders(machine: Machine, interpreter: MachinePath) -> tuple[str, ...]:
    found = _FOLDERS.search(_content(machine, interpreter))
    return tuple(f.rstrip("/") for f in found.group().decode("utf-8", "replace").split("\0") if f) if found else ()


def _read_release(machine: Machine, interpreter: MachinePath) -> tuple[int, int]:
    found = _RELEASE.search(_content(machine, interpreter))
    return (int(found[1]), int(found[2])) if found else (0, 0)


def _content(machine: Machine, interpreter: MachinePath) -> bytes:
    try:
        return machine.content(interpreter, _MOST_BYTES)
    except UnreadableError:
        return b""
