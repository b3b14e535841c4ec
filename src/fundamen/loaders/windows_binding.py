"""Whether each library offers what is imported from it, followed through libraries that only pass functions on.

Source: Microsoft's PE Format specification, Export Address Table (forwarder RVA). The platform refuses to start a
program of which one imported function is not offered (STATUS_ENTRYPOINT_NOT_FOUND, STATUS_ORDINAL_NOT_FOUND).
"""

from collections.abc import Callable

from fundamen.formats.pe import ImportedLibrary, Pe
from fundamen.formats.pe_exports import ExportTable, read_exports
from fundamen.formats.pe_imports import Function, read_imported_functions
from fundamen.loaders.load_map import Unoffered
from fundamen.machine.machine import Machine
from fundamen.model.binary import How
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_FORWARDS = 16  # from library to library, for one function

Resolve = Callable[[str, How, MachinePath], MachinePath | None]


class Binding:
    """Binds imports to exports as libraries are loaded; reads each export table once."""

    def __init__(self, machine: Machine, resolve: Resolve) -> None:
        """Begin.

        Args:
            machine: whose files are read.
            resolve: loads a library that another one passes a function on to: name, how it is needed, by whom.
        """
        self._machine = machine
        self._resolve = resolve
        self._exports: dict[MachinePath, ExportTable | None] = {}
        self._passed_on: dict[tuple[MachinePath, str, How], MachinePath | None] = {}

    def bind(self, importer: MachinePath, pe: Pe, library: ImportedLibrary, path: MachinePath) -> Unoffered | None:
        """Bind what one file imports from one library; give what is not offered, if anything is not."""
        exports = self._exports_of(path)
        functions = self._imported(importer, pe, library)
        if exports is None or not functions:
            return None
        missing = tuple(str(f) for f in functions if not self._is_offered(path, exports, f, library.how))
        return Unoffered(importer, path, library.how, missing) if missing else None

    def _is_offered(self, path: MachinePath, exports: ExportTable | None, function: Function, how: How) -> bool:
        for _ in range(_MOST_FORWARDS):
            if exports is None:  # a damaged table, or a library that was not found: its own fault, told elsewhere
                return True
            index = exports.index_of(function.name, function.ordinal)
            if index is None:
                return False
            forwarder = exports.forwarders.get(index)
            if forwarder is None:
                return True
            library, _, name = forwarder.rpartition(".")
            if not library:
                return False
            function = Function(None, int(name[1:])) if name[:1] == "#" and name[1:].isdigit() else Function(name)
            target = self._target(path, library, how)
            if target is None:
                return True
            path, exports = target, self._exports_of(target)
        return False

    def _target(self, path: MachinePath, library: str, how: How) -> MachinePath | None:
        key = (path, library.lower(), how)
        if key not in self._passed_on:
            self._passed_on[key] = self._resolve(library + ".dll", how, path)
        return self._passed_on[key]

    def _exports_of(self, path: MachinePath) -> ExportTable | None:
        if path not in self._exports:
            try:
                pe = self._machine.binary(path)
                with self._machine.open(path) as source:
                    self._exports[path] = read_exports(source, pe) if isinstance(pe, Pe) else None
            except UnreadableError:
                self._exports[path] = None
        return self._exports[path]

    def _imported(self, importer: MachinePath, pe: Pe, library: ImportedLibrary) -> tuple[Function, ...]:
        try:
            with self._machine.open(importer) as source:
                return read_imported_functions(source, pe, library)
        except UnreadableError:  # the damage is told by the file's own structure
            return ()
