"""The list of libraries that the loader loads first into every program. Source: ld.so(8), "/etc/ld.so.preload"."""

import re
from collections.abc import Iterator
from functools import partial

from fundamen.loaders.elf_loading import lines_of, words_of
from fundamen.loaders.glibc_itself import system_folders
from fundamen.loaders.ld_configuration import configured_folders
from fundamen.machine.links import is_gone
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Format
from fundamen.model.errors import FundamenError
from fundamen.model.paths import MachinePath

PRELOAD = MachinePath("/etc/ld.so.preload")
_MOST_BYTES = 1 << 16


def listed_to_preload(machine: Machine, path: MachinePath = PRELOAD) -> list[str]:
    """The names in the list; none where it cannot be read."""
    return [name for line in lines_of(machine, path) for name in words_of(line)]


def find_unloadable(machine: Machine) -> list[str]:
    """The names in the list by which no loader of the machine would find a library."""
    return [
        name
        for name in listed_to_preload(machine)
        if not any(map(partial(_is_library, machine), _paths(machine, name)))
    ]


def without_unloadable(machine: Machine) -> bytes:
    """The list without what cannot be loaded, and without the lines that would be left empty by that.

    Raises:
        UnreadableError: it cannot be read.
    """
    unloadable = {name.encode("utf-8", "surrogateescape") for name in find_unloadable(machine)}
    kept = []
    for line in machine.content(PRELOAD, _MOST_BYTES).splitlines(keepends=True):
        names, mark, comment = line.partition(b"#")
        parts = re.split(rb"([\s:]+)", names)
        left = b"".join(part for part in parts if part not in unloadable)
        if left == names:
            kept.append(line)
        elif left.strip(b" \t\r\n:") or comment:
            kept.append(left.lstrip(b" \t:") + mark + comment)
    return b"".join(kept) or b"\n"


def _paths(machine: Machine, name: str) -> Iterator[MachinePath]:
    """Where a library of the list may lie: at its path, or in the folders that loaders search."""
    if "/" in name:
        yield machine.absolute_path(name)
        return
    default = (folder for each in Architecture for folder in system_folders(machine, None, each))
    for folder in dict.fromkeys((*configured_folders(machine), *default)):
        yield MachinePath(f"{folder}/{name}")


def _is_library(machine: Machine, path: MachinePath) -> bool:
    if is_gone(machine, path) or machine.look(path).kind is not EntryKind.FILE:
        return False
    try:
        return machine.binary(path).format is Format.ELF
    except FundamenError:
        return False
