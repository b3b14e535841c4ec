"""Whether each library offers what is imported from it, followed through libraries that only pass functions on.

Source: Microsoft's PE Format specification, Export Address Table (forwarder RVA). The platform refuses to start a
program of which one imported function is not offered (STATUS_ENTRYPOINT_NOT_FOUND, STATUS_ORDINAL_NOT_FOUND).
"""

from collections.abc import Callable, Iterator
from typing import NamedTuple

import msgspec

from fundamen.formats.decimal import read_decimal
from fundamen.formats.windows.pe import ImportedLibrary, Pe
from fundamen.formats.windows.pe_exports import ExportTable, read_exports
from fundamen.formats.windows.pe_imports import Function, read_imported_functions
from fundamen.loaders.load_map import Unoffered
from fundamen.machine.machine import ANYWHERE, Machine
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_FORWARDS = 16  # from library to library, for one function

Resolve = Callable[[str, Necessity, MachinePath], MachinePath | None]


class _Bound(msgspec.Struct, frozen=True):
    """The functions that were looked up in one library; the same for every program."""

    missing: tuple[str, ...]  # functions that it does not have
    passed_on: tuple[str, ...]  # libraries that it passes some of the functions on to


class _Step(NamedTuple):
    """One library in which functions are looked up."""

    name: str  # as the importer names it, or the library that passes functions on to it
    path: MachinePath


_Wanted = list[tuple[Function, Function]]  # as they are imported, and as they are called in the library that is there


class Binding:
    """Binds imports to exports as libraries are loaded.

    What is looked up where is found out once for all programs; where libraries lie that functions are passed on to
    depends on the program.
    """

    def __init__(self, machine: Machine, resolve: Resolve) -> None:
        """Begin.

        Args:
            machine: whose files are read.
            resolve: loads a library that another one passes a function on to: name, how it is needed, by whom.
        """
        self._machine = machine
        self._resolve = resolve
        self._passed_on: dict[tuple[MachinePath, str, Necessity], MachinePath | None] = {}

    def bind(self, importer: MachinePath, library: ImportedLibrary, path: MachinePath) -> Unoffered | None:
        """Bind what one file imports from one library; give what is not offered, if anything is not."""
        missing = dict.fromkeys(self._missing_functions(importer, library, (_Step(library.name, path),)))
        return Unoffered(importer, path, library.how, tuple(missing)) if missing else None

    def _missing_functions(
        self, importer: MachinePath, library: ImportedLibrary, steps: tuple[_Step, ...]
    ) -> Iterator[str]:
        """The functions that the last library does not have, nor those that it passes them on to."""
        bound = self._machine.fact(importer, _bind_import, library, steps)
        yield from bound.missing
        for name in bound.passed_on:
            target = self._target(steps[-1].path, name, library.how)
            if target is not None:  # one that was not found is a fault of its own
                yield from self._missing_functions(importer, library, (*steps, _Step(name, target)))

    def _target(self, path: MachinePath, library: str, how: Necessity) -> MachinePath | None:
        key = (path, library, how)
        if key not in self._passed_on:
            self._passed_on[key] = self._resolve(library + ".dll", how, path)
        return self._passed_on[key]


def _bind_import(machine: Machine, importer: MachinePath, library: ImportedLibrary, steps: tuple[_Step, ...]) -> _Bound:
    """The functions of one import, looked up in the last library of some steps; as a fact."""
    exports = machine.fact(steps[-1].path, _export_table)
    if exports is None:  # a damaged table: a fault of its own, reported elsewhere
        return _Bound((), ())
    missing, forwarded = _looked_up(exports, _wanted_at(machine, importer, library, steps))
    if len(steps) >= _MOST_FORWARDS:
        missing += [function for passed in forwarded.values() for function, _ in passed]
        forwarded = {}
    following = machine.fact(ANYWHERE, _nothing_wanted)
    following.update({(importer, library, steps, name): each for name, each in forwarded.items()})
    return _Bound(tuple(map(str, missing)), tuple(forwarded))


def _wanted_at(machine: Machine, importer: MachinePath, library: ImportedLibrary, steps: tuple[_Step, ...]) -> _Wanted:
    """The functions that are looked up in the last library: those that the one before it passes on to it."""
    *before, last = steps
    if not before:
        return [(function, function) for function in _imported_functions(machine, importer, library)]
    known = machine.fact(ANYWHERE, _nothing_wanted).pop((importer, library, tuple(before), last.name), None)
    if known is not None:  # just found; a file may pass each of its functions on to another name
        return known
    exports = machine.fact(before[-1].path, _export_table)
    wanted = _wanted_at(machine, importer, library, tuple(before))
    return _looked_up(exports, wanted)[1].get(last.name, []) if exports is not None else []


def _nothing_wanted(
    _machine: Machine, _path: MachinePath
) -> dict[tuple[MachinePath, ImportedLibrary, tuple[_Step, ...], str], _Wanted]:
    """The functions that are passed on, until they are looked up there; to be filled, as a fact."""
    return {}


def _export_table(machine: Machine, path: MachinePath) -> ExportTable | None:
    try:
        pe = machine.binary(path)
        with machine.open(path) as source:
            return read_exports(source, pe) if isinstance(pe, Pe) else None
    except UnreadableError:
        return None


def _imported_functions(machine: Machine, importer: MachinePath, library: ImportedLibrary) -> tuple[Function, ...]:
    try:
        pe = machine.binary(importer)
        with machine.open(importer) as source:
            return read_imported_functions(source, pe, library) if isinstance(pe, Pe) else ()
    except UnreadableError:  # the file's own structure reports the damage
        return ()


def _looked_up(exports: ExportTable, wanted: _Wanted) -> tuple[list[Function], dict[str, _Wanted]]:
    """(those that a library does not have, those that it passes on, by the library that it passes them on to)."""
    missing: list[Function] = []
    forwarded: dict[str, _Wanted] = {}
    for imported, function in wanted:
        index = exports.index_of(function.name, function.ordinal)
        forwarder = exports.forwarders.get(index) if index is not None else ""
        if forwarder is None:
            continue
        library, _, name = forwarder.rpartition(".")
        if not library:
            missing.append(imported)
            continue
        ordinal = read_decimal(name[1:]) if name[:1] == "#" else None
        target = Function(name) if ordinal is None else Function(None, ordinal)
        forwarded.setdefault(library.lower(), []).append((imported, target))
    return missing, forwarded
