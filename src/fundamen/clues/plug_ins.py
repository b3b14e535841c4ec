"""Find the plug-ins that a message is about where it does not name them: by the folders where their host looks.

The knowledge says where (``plug_ins``); below which folder of libraries that is differs from system to system.
"""

from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from itertools import islice

from fundamen.clues.findings import Finding
from fundamen.clues.implied import implied_plug_ins
from fundamen.machine.access import ORDINARY, Barrier, find_barrier
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trace.trace import find_faults

_ROOTS = ("/usr/lib", "/usr/lib64", "/usr/local/lib", "/lib", "/lib64")
_TRIPLET = "*-linux-*"  # a folder of libraries for one architecture
_MOST_PLUG_INS, _MOST_FOLDERS = 400, 100


def find_faulty_plug_ins(machine: Machine, finding: Finding) -> Iterator[MachinePath]:
    """The plug-ins that a message implies and that cannot be loaded."""
    paths = list(islice(_plug_ins(machine, finding), _MOST_PLUG_INS))
    for path, found in zip(paths, find_faults(machine, paths), strict=True):
        if isinstance(found, UnreadableError) or found.faults:
            yield path


def find_barred_plug_in(machine: Machine, finding: Finding) -> tuple[MachinePath, Barrier] | None:
    """The first plug-in, or folder of some, that a message implies and from which rights keep the user."""
    user = machine.run_as or ORDINARY
    folders = (folder for template in implied_plug_ins(finding) for folder in _folders(machine, template))
    for path in (*dict.fromkeys(folders), *islice(_plug_ins(machine, finding), _MOST_PLUG_INS)):
        if (barrier := find_barrier(machine, path, user)) is not None:
            return path, barrier
    return None


def _plug_ins(machine: Machine, finding: Finding) -> Iterator[MachinePath]:
    seen: set[MachinePath] = set()
    if machine.platform is not Platform.LINUX:
        return
    for template in implied_plug_ins(finding):
        pattern = template.rpartition("/")[2]
        for folder in _folders(machine, template):
            for path in _match_names(machine, folder, pattern):
                if machine.look(path).kind is EntryKind.FILE and (real := machine.real(path)) not in seen:
                    seen.add(real)
                    yield path


def _folders(machine: Machine, template: str) -> Sequence[MachinePath]:
    """The folders below those of libraries that a template leads to, each once."""
    roots = [MachinePath(root) for root in _ROOTS]
    found = [*roots, *(path for root in roots for path in _match_names(machine, root, _TRIPLET))]
    for part in template.split("/")[:-1]:
        found = [path for folder in found[:_MOST_FOLDERS] for path in _match_names(machine, folder, part)]
    return tuple({machine.real(path): path for path in found}.values())


def _match_names(machine: Machine, folder: MachinePath, pattern: str) -> list[MachinePath]:
    try:
        names = machine.names(folder)
    except UnreadableError:
        return []
    return [MachinePath(f"{folder}/{name}") for name in sorted(names) if fnmatchcase(name, pattern)]
