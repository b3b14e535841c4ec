"""Find the libraries that define a symbol which a linker has not found."""

import os
from collections.abc import Sequence

from fundamen.building.library_search import LibraryFile, name_of, names_in, read_library
from fundamen.building.records import Sort
from fundamen.formats.unix.elf import Elf
from fundamen.formats.unix.elf_symbols import read_exports, read_string_table
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_BYTES = 256 << 20  # of a file that is looked through
_LONGEST_SCRIPT, _DEEPEST = 1 << 16, 4
_MOST_FOUND = 4  # libraries for one symbol
_FEW = 8  # symbols; so few are looked for in a library's bytes before it is read


def find_defining(
    machine: Machine, symbols: Sequence[str], folders: Sequence[str], architecture: Architecture
) -> dict[str, tuple[MachinePath, ...]]:
    """The libraries in some folders that ``-l`` finds and that define each symbol; those of the C library first.

    A symbol that a linker shows in its source's spelling, as C++ ones are, cannot be looked for.
    """
    wanted = {symbol: b"\0" + symbol.encode("utf-8", "surrogateescape") + b"\0" for symbol in symbols}
    wanted = {symbol: needle for symbol, needle in wanted.items() if symbol.replace("_", "a").isidentifier()}
    found: dict[str, list[MachinePath]] = {symbol: [] for symbol in wanted}
    for path in _libraries(machine, folders) if wanted else ():
        sought = {symbol: needle for symbol, needle in wanted.items() if len(found[symbol]) < _MOST_FOUND}
        for symbol in _defined_symbols(machine, path, sought, architecture):
            names = {name_of(machine.paths.basename(other)) for other in found[symbol]}
            if name_of(machine.paths.basename(path)) not in names:  # shared and static are one answer
                found[symbol].append(path)
    return {symbol: tuple(paths) for symbol, paths in found.items() if paths}


def _libraries(machine: Machine, folders: Sequence[str]) -> list[MachinePath]:
    """Each library once, whichever links lead to it; those whose names are short come first, being the common ones."""
    by_file: dict[MachinePath, MachinePath] = {}
    for _, path in names_in(machine, folders):
        by_file.setdefault(machine.real(path), path)
    return sorted(by_file.values(), key=lambda path: (len(machine.paths.basename(path)), path))


def _defined_symbols(
    machine: Machine, path: MachinePath, sought: dict[str, bytes], architecture: Architecture, depth: int = 0
) -> list[str]:
    """Which of the symbols a library defines. Most have none, which one look at their bytes or names tells."""
    try:
        near = list(sought)
        if len(sought) <= _FEW:
            data = machine.content(path, _MOST_BYTES)
            is_script = len(data) < _LONGEST_SCRIPT and b"\0" not in data
            near = [symbol for symbol, needle in sought.items() if is_script or needle in data]
        file = read_library(machine, path) if near else None
        if file is None:
            return []
        if file.meant and depth < _DEEPEST:
            inner = [MachinePath(meant.name) for meant in file.meant if meant.name.startswith("/")]
            return [s for other in inner for s in _defined_symbols(machine, other, sought, architecture, depth + 1)]
        return _offered_symbols(machine, path, file, near) if file.architecture is architecture else []
    except UnreadableError:
        return []


def _offered_symbols(machine: Machine, path: MachinePath, file: LibraryFile, symbols: list[str]) -> list[str]:
    """Those of some symbols that a library of the right architecture offers."""
    offered = set(file.archive.symbols or ()) if file.archive is not None else set[str]()
    if file.sort is Sort.SHARED:
        elf = machine.binary(path)
        with machine.open(path) as source:
            if isinstance(elf, Elf) and not read_string_table(source, elf).isdisjoint(map(os.fsencode, symbols)):
                offered = set(read_exports(source, elf))
    return [symbol for symbol in symbols if symbol in offered]
