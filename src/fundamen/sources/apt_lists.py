"""The lists of an archive that a mounted machine has already: taken over where the archive's signature proves them.

Fetching and unpacking them takes ten times as long. Source: the format of release files, apt-secure(8).
"""

import os
import re
from collections.abc import Iterable

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import digest_of_file
from fundamen.placing.own_files import copy_whole, remove_own

_LISTS = MachinePath("/var/lib/apt/lists")
_RELEASE, _PACKAGES = "_InRelease", "_Packages"
_MOST_LIST = 1 << 30  # bytes
_MOST_RELEASE = 8 << 20


def take_over_lists(machine: Machine, folder: HostPath) -> list[str]:
    """Copy the lists of packages, and the releases that they belong to, where ours are not yet; give the lists' names.

    Args:
        machine: a mounted root.
        folder: where apt keeps the lists for us.
    """
    try:
        names = machine.names(_LISTS)
    except UnreadableError:
        return []
    taken = []
    for release in (name for name in names if name.endswith(_RELEASE)):
        if os.path.exists(os.path.join(folder, release)):
            continue
        lists = [name for name in names if name.endswith(_PACKAGES) and _release_of(name, names) == release]
        for name, most in ((release, _MOST_RELEASE), *((name, _MOST_LIST) for name in lists)):
            path = machine.join(_LISTS, name)
            if machine.look(path).kind is EntryKind.FILE:
                copy_whole(machine.host_path(machine.real(path)), os.path.join(folder, name), most)
        taken += lists
    return taken


def _release_of(name: str, names: Iterable[str]) -> str:
    """The file of the release that a list belongs to: the one of the longest beginning; empty where there is none."""
    stems = [each.removesuffix(_RELEASE) for each in names if each.endswith(_RELEASE)]
    stem = max((stem for stem in stems if name.startswith(f"{stem}_")), key=len, default="")
    return f"{stem}{_RELEASE}" if stem else ""


def drop_unproven(folder: HostPath, names: list[str]) -> bool:
    """Remove the lists that are not as the release says, whose signature apt has checked; tell whether any was."""
    unproven = [name for name in names if not _is_proven(folder, name)]
    releases = {_release_of(name, os.listdir(folder)) for name in unproven}
    for name in (*unproven, *filter(None, releases)):
        remove_own(os.path.join(folder, name))
    return bool(unproven)


def _is_proven(folder: HostPath, name: str) -> bool:
    path = os.path.join(folder, name)
    if not os.path.exists(path):
        return True  # apt has another one already, which it has checked itself
    release = _release_of(name, os.listdir(folder))
    if not release:
        return False
    with open(os.path.join(folder, release), encoding="utf-8", errors="replace") as file:
        text = file.read(_MOST_RELEASE)
    _, _, digests = text.partition("\nSHA256:\n")
    place = name.removeprefix(f"{release.removesuffix(_RELEASE)}_").replace("_", "/")
    wanted = re.search(rf"^ ([0-9a-f]{{64}}) +\d+ {re.escape(place)}$", digests, re.MULTILINE)
    return wanted is not None and digest_of_file(path) == wanted[1]
