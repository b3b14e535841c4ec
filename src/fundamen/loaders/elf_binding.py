"""Which symbols of an ELF program nothing that is loaded defines.

Source: System V gABI, ch. 5 ("Shared Object Dependencies": every loaded file is looked through), ld.so(8), LD_BIND_NOW.
"""

import contextlib
from collections.abc import Iterator
from itertools import chain, islice

from fundamen.formats.unix.elf import Elf
from fundamen.formats.unix.elf_relocations import BoundSymbols, read_bound_symbols
from fundamen.formats.unix.elf_symbols import read_exports
from fundamen.loaders.load_map import LoadMap, Resolution
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.binary import BinaryKind, Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_SYMBOLS = 200


def find_undefined(machine: Machine, loading: LoadMap) -> tuple[Resolution, ...]:
    """The symbols that no one defines, each as a need that is not met; none where a file is missing that might."""
    files = {loading.program: loading.binary, **loading.loaded}
    elves = [path for path, binary in files.items() if isinstance(binary, Elf)]
    defined: set[str] = set()
    for path in elves:
        defined |= machine.fact(path, exports_of)
    library = loading.program if loading.binary.kind is not BinaryKind.PROGRAM else None
    undefined = chain.from_iterable(_find_undefined(machine, path, defined, len(elves), library) for path in elves)
    return tuple(islice(undefined, _MOST_SYMBOLS))


def _find_undefined(
    machine: Machine, path: MachinePath, defined: set[str], count: int, library: MachinePath | None
) -> Iterator[Resolution]:
    bound = machine.fact(path, bound_symbols_of)
    hint = say("loaders.the-program-that-loads-it-may") if path == library else ""
    for names, how in ((bound.at_start, Necessity.REQUIRED), (bound.at_first_call, Necessity.DELAYED)):
        for name in sorted(names - defined):
            decided = say("loaders.none-of-the-files-that-are", count=count, hint=hint)
            yield Resolution(name, path, how, (), None, "symbol", decided=decided)


def exports_of(machine: Machine, path: MachinePath) -> frozenset[str]:
    """The exports of a file, found out once by ``Machine.fact``."""
    elf = machine.binary(path)
    with contextlib.suppress(UnreadableError), machine.open(path) as source:
        return frozenset(read_exports(source, elf)) if isinstance(elf, Elf) else frozenset()
    return frozenset()


def bound_symbols_of(machine: Machine, path: MachinePath) -> BoundSymbols:
    """The imports of a file, likewise."""
    elf = machine.binary(path)
    with contextlib.suppress(UnreadableError), machine.open(path) as source:
        if isinstance(elf, Elf):
            return read_bound_symbols(source, elf)
    return BoundSymbols(frozenset(), frozenset())
