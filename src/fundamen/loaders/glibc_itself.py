"""What the GNU C library's loader says of itself: the folders that are built into it, and its release.

Source: glibc's elf/dl-load.c (system_dirs), elf/dl-usage.c and csu/version.c for the banner.
"""

import re

import msgspec

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


class Itself(msgspec.Struct, frozen=True):
    """What a loader's own file says."""

    folders: tuple[str, ...]  # empty where they cannot be read
    release: tuple[int, int]  # (0, 0) where it cannot be read


def read_itself(machine: Machine, interpreter: MachinePath | None) -> Itself:
    """What the loader at a path says of itself; each is read once."""
    if interpreter is None:
        return Itself((), (0, 0))
    return machine.fact("a loader's own words", interpreter, lambda: _read(machine, interpreter))


def system_folders(machine: Machine, interpreter: MachinePath | None, architecture: Architecture) -> tuple[str, ...]:
    """The default folders of a loader: read from the loader's own file, or the usual ones where that cannot be read."""
    if folders := read_itself(machine, interpreter).folders:
        return folders
    multiarch = _MULTIARCH.get(architecture)
    folders = (f"/lib/{multiarch}", f"/usr/lib/{multiarch}") if multiarch else ()
    if architecture not in {Architecture.X86, Architecture.ARM}:
        folders += ("/lib64", "/usr/lib64")
    return (*folders, "/lib", "/usr/lib")


def _read(machine: Machine, interpreter: MachinePath) -> Itself:
    try:
        content = machine.content(interpreter, _MOST_BYTES)
    except UnreadableError:
        return Itself((), (0, 0))
    folders, release = _FOLDERS.search(content), _RELEASE.search(content)
    return Itself(
        tuple(f.rstrip("/") for f in folders.group().decode("utf-8", "replace").split("\0") if f) if folders else (),
        (int(release[1]), int(release[2])) if release else (0, 0),
    )
