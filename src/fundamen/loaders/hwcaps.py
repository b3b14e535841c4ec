"""In which subfolders of a search folder the GNU loader looks first, for libraries made for this very processor.

Source: ld.so(8), "Hardware capabilities"; glibc's elf/dl-hwcaps.c (_dl_important_hwcaps) and, for the older folders,
sysdeps/x86/cpu-features.c; NEWS of glibc 2.37, which gives those up.
"""

from itertools import compress, product

from fundamen.loaders.glibc_itself import read_release
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.processor import supported_levels
from fundamen.model.architecture import Architecture
from fundamen.model.paths import MachinePath

_WITHOUT_OLD_FOLDERS = (2, 37)
_V3, _V4 = "x86-64-v3", "x86-64-v4"


class ProcessorFolders:
    """The subfolders for one architecture's processor on one machine."""

    def __init__(self, machine: Machine, architecture: Architecture, interpreter: MachinePath | None) -> None:
        """Prepare for the loader at a path; None where a library is looked at by itself."""
        self._machine = machine
        self._is_known = architecture is Architecture.X86_64
        self._interpreter = interpreter
        self._found: dict[str, tuple[str, ...]] = {}

    def levels(self) -> tuple[str, ...]:
        """The levels of instructions that the processor has, highest first."""
        return supported_levels(self._machine) if self._is_known else ()

    def of(self, folder: str) -> tuple[str, ...]:
        """The subfolders of a search folder that are there, in the loader's order."""
        found = self._found.get(folder)
        if found is None:
            found = self._found[folder] = tuple(self._existing_folders(folder))
        return found

    def _existing_folders(self, folder: str) -> list[str]:
        if not self._is_known or not self._is_folder(folder):
            return []
        subfolders = []
        if self._is_folder(f"{folder}/glibc-hwcaps"):
            subfolders = [f"{folder}/glibc-hwcaps/{level}" for level in self.levels()]
        return subfolders + self._old(folder)

    def _old(self, folder: str) -> list[str]:
        """Every choice among the parts, the earlier ones first: ``tls/haswell/x86_64``, ``tls/haswell``, ``tls`` ..."""
        levels = self.levels()
        parts = ["tls", *(["haswell"] if _V3 in levels else []), *(["avx512_1"] if _V4 in levels else []), "x86_64"]
        if not any(self._is_folder(f"{folder}/{part}") for part in parts):
            return []  # as nearly everywhere
        release = read_release(self._machine, self._interpreter) if self._interpreter is not None else (0, 0)
        if not (0, 0) < release < _WITHOUT_OLD_FOLDERS:
            return []
        choices = product((True, False), repeat=len(parts))
        paths = ["/".join([folder, *compress(parts, choice)]) for choice in choices]
        return [path for path in paths[:-1] if self._is_folder(path)]

    def _is_folder(self, path: str) -> bool:
        return self._machine.look(MachinePath(path)).kind is EntryKind.FOLDER
