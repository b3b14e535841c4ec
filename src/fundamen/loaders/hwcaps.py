"""In which subfolders of a search folder the GNU loader looks first, for libraries made for this very processor.

Source: ld.so(8), "Hardware capabilities"; glibc's elf/dl-hwcaps.c (_dl_important_hwcaps) and, for the older folders,
sysdeps/x86/cpu-features.c; NEWS of glibc 2.37, which gives those up.
"""

from itertools import product

from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.processor import supported_levels
from fundamen.model.architecture import Architecture
from fundamen.model.paths import MachinePath

_WITHOUT_OLD_FOLDERS = (2, 37)
_V3, _V4 = "x86-64-v3", "x86-64-v4"


class ProcessorFolders:
    """The subfolders for one architecture's processor on one machine."""

    def __init__(self, machine: Machine, architecture: Architecture, release: tuple[int, int]) -> None:
        """Prepare for a loader of a release of glibc; (0, 0) where that is not known."""
        self._machine = machine
        self._is_known = architecture is Architecture.X86_64
        self._has_old = self._is_known and (0, 0) < release < _WITHOUT_OLD_FOLDERS
        self._found: dict[str, tuple[str, ...]] = {}

    def levels(self) -> tuple[str, ...]:
        """The levels of instructions that the processor has, highest first."""
        return supported_levels(self._machine) if self._is_known else ()

    def of(self, folder: str) -> tuple[str, ...]:
        """The subfolders of a search folder that are there, in the loader's order."""
        if folder not in self._found:
            self._found[folder] = tuple(self._existing(folder))
        return self._found[folder]

    def _existing(self, folder: str) -> list[str]:
        if not self._is_known or not self._is_folder(folder):
            return []
        subfolders = []
        if self._is_folder(f"{folder}/glibc-hwcaps"):
            subfolders = [f"{folder}/glibc-hwcaps/{level}" for level in self.levels()]
        if self._has_old:
            subfolders += [f"{folder}/{old}" for old in self._old() if self._is_folder(f"{folder}/{old}")]
        return subfolders

    def _old(self) -> list[str]:
        """Every choice among the parts, the earlier ones first: ``tls/haswell/x86_64``, ``tls/haswell``, ``tls`` ..."""
        levels = self.levels()
        parts = ["tls", *(["haswell"] if _V3 in levels else []), *(["avx512_1"] if _V4 in levels else []), "x86_64"]
        choices = product((True, False), repeat=len(parts))
        return ["/".join(p for p, is_in in zip(parts, choice, strict=True) if is_in) for choice in choices][:-1]

    def _is_folder(self, path: str) -> bool:
        return self._machine.look(MachinePath(path)).kind is EntryKind.FOLDER
