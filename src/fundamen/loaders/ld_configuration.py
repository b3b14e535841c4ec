"""Read the settings of the GNU loader's cache: folders in which its libraries are listed, and what would be listed.

Source: ldconfig(8); glibc's elf/ldconfig.c (parse_conf, search_dir) and sysdeps/generic/ldconfig.h for the flags.
"""

import posixpath
from collections import deque
from collections.abc import Iterator

from fundamen.formats.unix.elf import Elf
from fundamen.formats.unix.ld_cache import CacheEntry
from fundamen.loaders.elf_loading import lines_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

CACHE = MachinePath("/etc/ld.so.cache")
CONFIGURATION = MachinePath("/etc/ld.so.conf")
CONFIGURATION_FOLDER = MachinePath("/etc/ld.so.conf.d")
_BUILT_IN = ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/lib32", "/usr/lib32", "/libx32", "/usr/libx32")
_BEGINNINGS = ("lib", "ld-")  # of what counts as a library
_MOST_FILES = 256
_MOST_LIBRARIES = 200_000
_LIBC6 = 0x0003  # FLAG_ELF_LIBC6
_OF_ARCHITECTURE = {
    Architecture.X86: 0,
    Architecture.X86_64: 0x0300,
    Architecture.S390X: 0x0400,
    Architecture.PPC64LE: 0x0500,
    Architecture.ARM: 0x0900,
    Architecture.AARCH64: 0x0A00,
    Architecture.RISCV64: 0x1000,
}


def configured_folders(machine: Machine) -> list[str]:
    """The folders that the settings name, in their order, each once."""
    folders: list[str] = []
    waiting, seen = deque([CONFIGURATION]), set[MachinePath]()
    while waiting and len(seen) < _MOST_FILES:
        file = waiting.popleft()
        if file in seen:
            continue
        seen.add(file)
        for line in lines_of(machine, file):
            if line.startswith("/"):
                folders.append(line.rstrip("/"))
            elif line.startswith("include "):
                waiting += _included_files(machine, line.split(None, 1)[1], file)
    return list(dict.fromkeys(folders))


def find_cache_entries(machine: Machine, further: tuple[str, ...] = ()) -> list[CacheEntry] | None:
    """The entries of a new cache; None where the system's own tool would list more.

    That is so where a folder has libraries for newer processors only (glibc-hwcaps), or for an architecture that is not
    known here.

    Args:
        machine: whose cache it is.
        further: folders that the settings are to name besides.
    """
    found: dict[tuple[str, int], CacheEntry] = {}
    seen: set[MachinePath] = set()
    for folder in (*configured_folders(machine), *further, *_BUILT_IN):
        real = machine.real(MachinePath(folder))
        if real in seen or machine.look(real).kind is not EntryKind.FOLDER:
            continue
        seen.add(real)
        names = machine.names(real)
        if "glibc-hwcaps" in names or len(found) > _MOST_LIBRARIES:
            return None
        for entry in _entries_in(machine, folder, names):
            if entry is None:
                return None
            found.setdefault((entry.name, entry.flags), entry)  # the first folder's counts
    return list(found.values())


def _entries_in(machine: Machine, folder: str, names: tuple[str, ...]) -> Iterator[CacheEntry | None]:
    """The libraries of one folder, each by its soname; None for one whose flags are not known."""
    for name in names:
        if not name.startswith(_BEGINNINGS) or ".so" not in name:
            continue
        path = MachinePath(posixpath.join(folder, name))
        if machine.look(path).kind is not EntryKind.FILE:
            continue
        try:
            binary = machine.binary(path)
        except UnreadableError:
            continue  # a linker's script, or something damaged: the system's own tool leaves it out too
        if not isinstance(binary, Elf) or not binary.is_intact:
            continue
        flags = _OF_ARCHITECTURE.get(binary.architecture)
        if flags is None:
            yield None
            continue
        listed = _listed_name(machine, path, name, binary.name or name)
        if listed == name or machine.look(MachinePath(posixpath.join(folder, listed))).kind is EntryKind.FILE:
            yield CacheEntry(listed, posixpath.join(folder, listed), _LIBC6 | flags, 0)


def _listed_name(machine: Machine, path: MachinePath, name: str, soname: str) -> str:
    """The name under which a file is listed: its soname, or that of the link by which ld(1) finds it."""
    is_for_linking = name.endswith(".so") and soname.startswith(name)
    return name if is_for_linking and machine.own_place(path) != machine.real(path) else soname


def _included_files(machine: Machine, pattern: str, file: MachinePath) -> list[MachinePath]:
    """The files that an include line names: a path or a pattern, counted from the file's own folder."""
    from fnmatch import fnmatchcase  # noqa: PLC0415 - seldom reached, and start-up is part of every command

    path = machine.join(machine.folder_of(file), pattern)
    folder, wanted = machine.folder_of(path), posixpath.basename(path)
    try:
        return [machine.join(folder, name) for name in machine.names(folder) if fnmatchcase(name, wanted)]
    except UnreadableError:
        return []
