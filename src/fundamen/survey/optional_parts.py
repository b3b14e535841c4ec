"""Tell faults from optional parts: programs of an installed package that need something which it does not require.

A package's maintainer declares what it requires (Debian Policy, 7.2). Where all of that is installed, and no installed
package has brought the missing component, the program is a part that works only with further packages.
"""

from collections.abc import Iterable, Mapping, Sequence

from fundamen.evidence.debian_contents import DEBIAN_NAMES
from fundamen.evidence.debian_needs import find_needs
from fundamen.evidence.dpkg import all_installed, all_provided, find_listed, installed_stanzas
from fundamen.machine.machine import ANYWHERE, EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Component

_ABSENT = {Verdict.MISSING, Verdict.WRONG_ARCHITECTURE}
_MOST_PROGRAMS = 500  # of one cause; what stops more is no optional part
_ANY = "all"  # a package for every architecture


class OptionalParts:
    """Answers from the package database of one machine; without one, nothing is optional."""

    def __init__(self, machine: Machine) -> None:
        """Begin; the database is read when it is first needed."""
        self._machine = machine
        self._whole: dict[str, bool] = {}  # package, as its list is named -> whether all that it requires is installed
        self._owners: dict[MachinePath, tuple[str, ...]] = {}

    def find(self, component: Component, programs: Sequence[MachinePath]) -> frozenset[MachinePath]:
        """Those programs or libraries for which an absent component is an optional part."""
        if component.verdict not in _ABSENT or len(programs) > _MOST_PROGRAMS or self._was_brought(component):
            return frozenset()
        self._find_owners(programs)
        return frozenset(
            path for path in programs if (owners := self._owners[path]) and all(map(self._is_whole, owners))
        )

    def _was_brought(self, component: Component) -> bool:
        """Whether an installed package has brought such a component, which is lost then."""
        is_path = component.name.startswith("/")
        names = () if is_path else {self._machine.paths.basename(name) for name in component.sought_as}
        paths = [MachinePath(component.name)] if is_path else []
        wanted = {DEBIAN_NAMES.get(component.wanted_architecture, ""), _ANY}
        for package, path in find_listed(self._machine, paths, names):
            stanzas = self._stanzas().get(package, ())
            serves = is_path or any(each.get("Architecture") in wanted for each in stanzas)
            if stanzas and serves and self._machine.look(path).kind is not EntryKind.FOLDER:
                return True
        return False

    def _find_owners(self, programs: Iterable[MachinePath]) -> None:
        asked = [path for path in programs if path not in self._owners]
        found: dict[str, list[str]] = {}
        for package, path in find_listed(self._machine, asked, ()):
            found.setdefault(self._machine.real(path), []).append(package)
        for path in asked:
            self._owners[path] = tuple(found.get(self._machine.real(path), ()))

    def _is_whole(self, package: str) -> bool:
        if package not in self._whole:
            installed, provided = self._machine.fact(ANYWHERE, _installed_packages)
            self._whole[package] = bool(self._stanzas().get(package)) and all(
                need.is_met
                for stanza in self._stanzas().get(package, ())
                for need in find_needs(stanza, installed, provided)
                if need.field in {"Depends", "Pre-Depends"}
            )
        return self._whole[package]

    def _stanzas(self) -> Mapping[str, Sequence[Mapping[str, str]]]:
        return self._machine.fact(ANYWHERE, _stanzas)


def _stanzas(machine: Machine, _path: MachinePath) -> dict[str, list[dict[str, str]]]:
    """The fields of each installed package, by both names that its list may have."""
    found: dict[str, list[dict[str, str]]] = {}
    try:
        for fields in installed_stanzas(machine):
            name = fields.get("Package", "")
            for spelled in (name, f"{name}:{fields.get('Architecture', '')}"):
                found.setdefault(spelled, []).append(fields)
    except UnreadableError:
        return {}
    return found


def _installed_packages(
    machine: Machine, _path: MachinePath
) -> tuple[dict[str, list[tuple[str, str]]], dict[str, list[str]]]:
    try:
        return all_installed(machine), all_provided(machine)
    except UnreadableError:
        return {}, {}
