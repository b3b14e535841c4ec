"""Find where a library that the loader misses lies after all: copied without its links, or moved with its program."""

from collections.abc import Iterable

import msgspec

from fundamen.machine.links import is_gone
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_LONGEST_LINK = 255  # bytes of a name
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
