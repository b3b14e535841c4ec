"""Where else a missing file lies, which package would bring it, and at which line of a makefile its name is spelled."""

import os
import re
from collections.abc import Sequence

import msgspec

from fundamen.building.compiler import LinkPlan
from fundamen.building.library_search import file_names, read_library
from fundamen.building.records import BuildNeed, Sort
from fundamen.evidence.debian_contents import find_bringers
from fundamen.loaders.architectures import own_architecture
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.nearby import folders_near
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict

_MOST_FOUND = 3
_MAKEFILES = re.compile(
    r"(?:GNUm|M|m)akefile(?:\..*)?$|.*\.(?:mk|mak|am|pro|cmake)$|CMakeLists\.txt$|configure(?:\.ac)?$|env_.*"
)
_BUILT = re.compile(r"\.(?:a|o|so(?:\.[\d.]+)?)$")  # what is made for one architecture
_LARGEST_MAKEFILE = 4 << 20  # bytes
_LIBRARIES = {Sort.LIBRARY, Sort.SHARED, Sort.STATIC}


class Whereabouts:
    """Looks around a build for what it lacks."""

    def __init__(self, machine: Machine, folder: MachinePath, plan: LinkPlan) -> None:
        self._machine = machine
        self._folder = folder
        self._plan = plan
        self._searched = plan.folders
        self._architecture = plan.architecture

    def find_all(self, needs: Sequence[BuildNeed]) -> list[BuildNeed]:
        """The needs, each fault with all that was found out about its whereabouts."""
        sought = {
            need.name: self._file_names(need)
            for need in needs
            if need.verdict in {Verdict.MISSING, Verdict.WRONG_ARCHITECTURE}
        }
        names = {name for names in sought.values() for name in names}
        lying = self._find_files(names) if names else {}
        brought = self._find_packages(names) if names else {}
        answers = []
        for need in needs:
            if need.name in sought and need.sort is not Sort.SYMBOL:
                own = sought[need.name]
                elsewhere = tuple(path for name in own for path in lying.get(name, ()))
                packages = tuple(dict.fromkeys(package for name in own for package in brought.get(name, ())))
                need = msgspec.structs.replace(  # noqa: PLW2901 - the same need, with more said of it
                    need,
                    elsewhere=elsewhere[:_MOST_FOUND],
                    brought_by=packages,
                    spelled_at=self._find_misspellings(need),
                )
            answers.append(
                msgspec.structs.replace(need, do=need.do or self._remedy(need)) if need.verdict.is_fault else need
            )
        return answers

    def _remedy(self, need: BuildNeed) -> Message:
        """A remedy, the gentlest first; empty where none is certain."""
        if need.near and not need.elsewhere:
            where = say("building.in", spelled_at=need.spelled_at[0]) if need.spelled_at else UNSAID
            return say("building.write-in-place-of", near=need.near[0], name=need.name, where=where)
        if need.brought_by:
            return say("building.apt-install", brought_by=need.brought_by[0])
        if need.elsewhere and need.sort in _LIBRARIES:
            return say("building.add-l", folder=self._machine.folder_of(need.elsewhere[0]))
        if need.elsewhere and need.sort is Sort.HEADER:
            return say("building.add-i", folder=need.elsewhere[0].removesuffix("/" + need.name))
        return say("building.name", elsewhere=need.elsewhere[0]) if need.elsewhere else UNSAID

    def _file_names(self, need: BuildNeed) -> tuple[str, ...]:
        if need.name.startswith("-l"):
            only_static = need.sort is Sort.STATIC
            return file_names(need.name[2:], only_static=only_static, for_windows=self._plan.is_for_windows)
        if need.sort is Sort.START_FILE:
            return (os.path.basename(need.name),)
        is_made_by_build = need.sort is Sort.INPUT and not need.name.endswith((".a", ".so", ".lib"))
        return () if need.sort in {Sort.SYMBOL, Sort.TOOL} or is_made_by_build else (need.name.lstrip("/"),)

    def _find_files(self, names: set[str]) -> dict[str, list[MachinePath]]:
        """Files of these names and of the right width near the build, and where software is put by hand."""
        found: dict[str, list[MachinePath]] = {}
        by_last_part: dict[str, list[str]] = {}
        for name in names:
            by_last_part.setdefault(os.path.basename(name), []).append(name)
        searched = {self._machine.real(MachinePath(folder)) for folder in self._searched}
        for folder, entries in folders_near(self._machine, self._folder):
            for entry in set(entries) & by_last_part.keys():
                path = self._machine.join(folder, entry)
                for name in by_last_part[entry]:
                    is_new = self._machine.real(folder) not in searched
                    if path.endswith("/" + name) and is_new and self._is_of_use(path):
                        found.setdefault(name, []).append(path)
        return found

    def _is_of_use(self, path: MachinePath) -> bool:
        if self._machine.look(path).kind is not EntryKind.FILE:
            return False
        if not _BUILT.search(path):
            return True
        file = read_library(self._machine, path)
        return not file.problem and file.architecture in {None, self._architecture}

    def _find_packages(self, names: set[str]) -> dict[str, tuple[str, ...]]:
        """Packages that would put each file where it is searched."""
        folders = tuple(dict.fromkeys((*self._searched, "/usr/include")))
        real = tuple(dict.fromkeys(self._machine.real(MachinePath(folder)) for folder in folders))
        architectures = tuple(dict.fromkeys((self._architecture, self._native())))
        found: dict[str, tuple[str, ...]] = {}
        for name, bringers in find_bringers(self._machine, names, architectures, real).items():
            fitting = [b for b in bringers if self._is_searched(b.path, name, real) and self._is_free(b.path)]
            found[name] = tuple(dict.fromkeys(bringer.package for bringer in fitting))
        return found

    def _is_free(self, path: MachinePath) -> bool:
        """Whether nothing is at a path yet: what is there already has not helped."""
        return self._machine.look(path).kind is EntryKind.ABSENT

    def _is_searched(self, path: MachinePath, name: str, folders: tuple[MachinePath, ...]) -> bool:
        folder = MachinePath(path.removesuffix("/" + name))
        is_multiarch = folder.startswith("/usr/include/") and folder.count("/") == 3 and "-linux-" in folder  # noqa: PLR2004
        return self._machine.real(folder) in folders or is_multiarch

    def _native(self) -> Architecture:
        """The architecture that the machine's packages are mostly for."""
        return own_architecture(self._machine) or self._architecture

    def _find_misspellings(self, need: BuildNeed) -> tuple[str, ...]:
        """The lines of makefiles in the build's folder where a misread name stands: ``Makefile:7``."""
        if not need.near:
            return ()
        word = re.compile(rf"(?<![\w.]){re.escape(need.name)}(?![\w.-])")
        places = []
        for name in self._machine.names(self._folder):
            path = self._machine.join(self._folder, name)
            if _MAKEFILES.fullmatch(name) and self._machine.look(path).kind is EntryKind.FILE:
                text = self._machine.content(path, _LARGEST_MAKEFILE).decode("utf-8", "replace")
                places += [f"{name}:{number}" for number, line in enumerate(text.splitlines(), 1) if word.search(line)]
        return tuple(places)
