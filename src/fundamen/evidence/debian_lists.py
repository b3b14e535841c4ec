"""Which packages Debian's archive has, by name, from the lists of packages that apt has fetched.

Source: Debian's repository format, "Packages Indices"; apt.conf(5), "Acquire::GzipIndexes".
"""

import re
from collections.abc import Iterable

from fundamen.evidence.debian_contents import LISTS, can_unpack, open_unpacked, pieces
from fundamen.evidence.dpkg import all_installed
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_PACKAGES = re.compile(r".*_Packages(?:\.\w+)?")
_NAME = re.compile(r"[a-z0-9][a-z0-9+.-]{1,100}")  # Debian Policy, section 5.6.1


def find_not_installed(machine: Machine, names: Iterable[str]) -> tuple[str, ...]:
    """Those of some names that a package of the archive has which is not installed, in the given order.

    None on a captured machine: nothing can be installed on it.
    """
    wanted = [name for name in dict.fromkeys(names) if _NAME.fullmatch(name)]
    if machine.is_captured or not wanted:
        return ()
    try:
        installed = all_installed(machine)
    except UnreadableError:  # what is installed is not known
        return ()
    wanted = [name for name in wanted if name not in installed]
    left = {name: f"\nPackage: {name}\n".encode() for name in wanted}
    for path in _lists(machine):
        with open_unpacked(machine.host_path(machine.real(path))) as stream:
            for text in pieces(stream):
                # A piece begins at a line, and the first field of a record is its name.
                left = {n: mark for n, mark in left.items() if mark not in text and not text.startswith(mark[1:])}
                if not left:
                    return tuple(wanted)
    return tuple(name for name in wanted if name not in left)


def _lists(machine: Machine) -> list[MachinePath]:
    try:
        names = machine.names(LISTS)
    except UnreadableError:
        return []
    return [
        path for name in sorted(filter(_PACKAGES.fullmatch, names)) if can_unpack(path := machine.join(LISTS, name))
    ]
