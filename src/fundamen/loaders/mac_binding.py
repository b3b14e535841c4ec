"""Whether each library of a Mach-O program offers the symbols that are bound to it.

Source: mach-o/loader.h (two-level namespace, LC_REEXPORT_DYLIB), and dyld's Loader::resolveSymbol.
"""

from collections.abc import Iterator, Mapping

from fundamen.formats.mac.macho_imports import Import, read_imports
from fundamen.formats.mac.macho_slice import Slice
from fundamen.formats.mac.macho_symbols import read_exports
from fundamen.loaders.load_map import Unoffered
from fundamen.machine.machine import Machine
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath


def find_unoffered(
    machine: Machine,
    parts: Mapping[MachinePath, Slice],
    answers: Mapping[tuple[MachinePath, str], MachinePath | None],
) -> Iterator[Unoffered]:
    """Find the imports of loaded files that the libraries do not export.

    Args:
        machine: where the files lie.
        parts: what is loaded of each file.
        answers: (file, need) -> the file that the need is met by; None where that is no file.
    """
    offers = _Offers(machine, parts, answers)
    for importer, part in parts.items():
        if not part.is_two_level or not any(answers.get((importer, dylib.name)) for dylib in part.dylibs):
            continue
        lacking: dict[tuple[MachinePath, Necessity], list[str]] = {}
        for each in _imports(machine, importer, part):
            dylib = part.dylibs[each.ordinal - 1] if 0 < each.ordinal <= len(part.dylibs) else None
            library = answers.get((importer, dylib.name)) if dylib is not None else None
            if library is not None and each.how is not Necessity.OPTIONAL and offers.lacks(library, each.name):
                lacking.setdefault((library, each.how), []).append(each.name.removeprefix("_"))
        for (library, how), names in lacking.items():
            yield Unoffered(importer, library, how, tuple(dict.fromkeys(names)))


class _Offers:
    """The exports of each loaded file, with those of the libraries that it re-exports."""

    def __init__(
        self,
        machine: Machine,
        parts: Mapping[MachinePath, Slice],
        answers: Mapping[tuple[MachinePath, str], MachinePath | None],
    ) -> None:
        self._machine = machine
        self._parts = parts
        self._answers = answers
        self._own: dict[MachinePath, frozenset[str] | None] = {}

    def lacks(self, library: MachinePath, name: str) -> bool:
        """Whether a library certainly does not offer a name: not itself, and not by any that it re-exports."""
        waiting, seen = [library], {library}
        while waiting:
            path = waiting.pop()
            own = self._exports(path)
            if own is None or name in own:
                return False
            for dylib in self._parts[path].dylibs:
                if dylib.is_re_exported:
                    other = self._answers.get((path, dylib.name))
                    if other is None:  # the system's own, which is not available to be read
                        return False
                    if other not in seen:
                        seen.add(other)
                        waiting.append(other)
        return True

    def _exports(self, path: MachinePath) -> frozenset[str] | None:
        if path not in self._own:
            try:
                with self._machine.open(path) as source:
                    self._own[path] = frozenset(read_exports(source, self._parts[path]))
            except UnreadableError:  # a damaged table: then nothing is held against it
                self._own[path] = None
        return self._own[path]


def _imports(machine: Machine, path: MachinePath, part: Slice) -> tuple[Import, ...]:
    try:
        with machine.open(path) as source:
            return read_imports(source, part)
    except UnreadableError:
        return ()
