"""Find a compiled module of Python that is there, and was built for another Python than the one that seeks it.

Source: PEP 3149, "ABI version tagged .so files".
"""

import re
from collections.abc import Iterator
from itertools import islice

import msgspec

from fundamen.clues.mentions import MentionKind
from fundamen.clues.reading import Reading
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import find_program
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MODULE_MISSING = "python-module-missing"
_MODULE = re.compile(r"[A-Za-z_]\w*(?:\.[A-Za-z_]\w*){0,20}")
_TAG = re.compile(r"\.cpython-(\d)(\d{1,2})[a-z]*-[\w-]+\.so")
_PYTHON = re.compile(r"python(\d)\.(\d{1,2})")
_SYSTEM = ("/usr/lib/python3", "/usr/local/lib")
_APPLICATIONS = ("/opt", "/srv")
_MOST_FOLDERS, _DEPTH = 2000, 4


class OtherBuild(msgspec.Struct, frozen=True):
    """A module that is there, for another Python."""

    path: MachinePath
    built_for: str  # as "3.10"
    runs: str  # the Python that seeks it


def find_other_build(machine: Machine, reading: Reading) -> OtherBuild | None:
    """The build of a missing module for another Python: of the system's folders, applications', and those named."""
    finding = reading.decisive
    if finding is None or finding.entry is None or finding.entry.id != _MODULE_MISSING:
        return None
    module = finding.holes.get("component", "")
    python = _PYTHON.fullmatch(machine.paths.basename(machine.real(find_program(machine, "python3"))))
    if machine.platform is not Platform.LINUX or _MODULE.fullmatch(module) is None or python is None:
        return None
    *packages, last = module.split(".")
    for folder in islice(_folders(machine, reading), _MOST_FOLDERS):
        place = machine.join(folder, *packages) if packages else folder
        for name in _names(machine, place):
            found = _TAG.fullmatch(name.removeprefix(last)) if name.startswith(last) else None
            if found is not None and found.groups() != python.groups():
                return OtherBuild(machine.join(place, name), ".".join(found.groups()), ".".join(python.groups()))
    return None


def _folders(machine: Machine, reading: Reading) -> Iterator[MachinePath]:
    named = (mention.text for mention in reading.mentions if mention.kind is MentionKind.PATH)
    yield from (machine.folder_of(machine.absolute_path(path)) for path in named if path.startswith("/"))
    ring = [MachinePath(root) for root in (*_SYSTEM, *_APPLICATIONS)]
    for _ in range(_DEPTH):
        yield from ring
        below = (machine.join(folder, name) for folder in ring for name in _names(machine, folder))
        ring = [path for path in islice(below, _MOST_FOLDERS) if machine.look(path).kind is EntryKind.FOLDER]


def _names(machine: Machine, folder: MachinePath) -> tuple[str, ...]:
    try:
        return machine.names(folder)
    except UnreadableError:
        return ()
