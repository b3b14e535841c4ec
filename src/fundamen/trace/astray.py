"""Find where a library that the loader misses lies after all: copied without its links, or moved with its program."""

from collections.abc import Iterable

import msgspec

from fundamen.machine.links import is_gone
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import MachinePath

_LONGEST_LINK = 255  # bytes of a name
_MOST_VERSIONS, _MOST_DIGITS = 20, 10
_MOST_ABOVE = 3  # folders above a program that may be its application's own


class Moved(msgspec.Struct, frozen=True):
    """A folder that is sought where it is no more."""

    gone: MachinePath
    now: MachinePath
    library: MachinePath  # what was sought in it, where it lies now


def link_in_text(machine: Machine, path: MachinePath) -> MachinePath | None:
    """The file beside a path whose name is all that the file at the path holds, as a copy made without links leaves it.

    None where it holds anything else.
    """
    entry = machine.look(path)
    if entry.kind is not EntryKind.FILE or not 0 < entry.size <= _LONGEST_LINK:
        return None
    try:
        name = machine.content(path, _LONGEST_LINK).decode("utf-8", "surrogateescape").removesuffix("\n")
    except UnreadableError:
        return None
    if "/" in name or "\0" in name or name in {"", ".", "..", machine.paths.basename(path)}:
        return None
    beside = machine.join(machine.folder_of(path), name)
    return beside if machine.look(beside).kind is EntryKind.FILE else None


def moved_folder(machine: Machine, program: MachinePath, absent: Iterable[MachinePath]) -> Moved | None:
    """The folder of a program's application that was moved, its program with it; None where none was.

    A run path that is not counted from the program still names the old place; the file lies as far from the program as
    it did there.

    Args:
        machine: where it lies.
        program: where it lies now.
        absent: the places where a library of it is sought.
    """
    above = [machine.folder_of(program)]
    while len(above) < _MOST_ABOVE and machine.folder_of(above[-1]) not in {above[-1], "/"}:
        above.append(machine.folder_of(above[-1]))
    for path in absent:
        name, folder = machine.paths.basename(path), machine.folder_of(path)
        if not is_gone(machine, folder):
            continue
        for now in above:
            part = machine.paths.basename(folder)
            if machine.look(library := machine.join(now, part, name)).kind is EntryKind.FILE:
                old, new = machine.folder_of(folder), now
                if machine.paths.basename(old) == machine.paths.basename(new) and is_gone(machine, old):
                    return Moved(old, new, library)
                return Moved(folder, machine.join(now, part), library)
    return None


def file_without_link(machine: Machine, path: MachinePath, architecture: Architecture) -> MachinePath | None:
    """The library beside a place of which only the link there is gone: its own name (soname) is that of the place.

    Of several versions it is the highest. Source: ld.so(8), "FILES".
    """
    folder, soname = machine.folder_of(path), machine.paths.basename(path)
    if not is_gone(machine, path):
        return None
    try:
        names = [name for name in machine.names(folder) if name.startswith(f"{soname}.")]
    except UnreadableError:
        return None
    for name in sorted(names, key=_version_key, reverse=True)[:_MOST_VERSIONS]:
        beside = machine.join(folder, name)
        try:
            binary = machine.binary(beside)
        except FundamenError:
            continue
        if binary.is_intact and binary.name == soname and binary.architecture is architecture:
            return beside
    return None


def _version_key(name: str) -> list[tuple[int, str]]:
    """The parts of a name, so that 3.10 comes after 3.9."""
    return [(int(part), "") if part.isdigit() and len(part) < _MOST_DIGITS else (-1, part) for part in name.split(".")]
