"""The lists of an archive that a mounted machine has already: taken over where the archive's signature proves them.

Fetching and unpacking them takes ten times as long. Source: the format of release files, apt-secure(8).
"""

import os
import re

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import digest_of_file
from fundamen.placing.own_files import copy_whole, remove_own

_LISTS = MachinePath("/var/lib/apt/lists")
_PACKAGES = re.compile(r"(?P<release>[\w.:%+-]+?)_(?P<place>[\w+-]+(?:_[\w+-]+)*_binary-[\w-]+_Packages)")
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
    for name in names:
        match = _PACKAGES.fullmatch(name)
        release = f"{match['release']}_InRelease" if match is not None else ""
        if release in names and not os.path.exists(os.path.join(folder, release)):
            for each, most in ((release, _MOST_RELEASE), (name, _MOST_LIST)):
                path = machine.join(_LISTS, each)
                if machine.look(path).kind is EntryKind.FILE:
                    copy_whole(machine.host_path(machine.real(path)), os.path.join(folder, each), most)
            taken.append(name)
    return taken


def drop_unproven(folder: HostPath, names: list[str]) -> bool:
    """Remove the lists that are not as the release says, whose signature apt has checked; tell whether any was."""
    unproven = [name for name in names if not _is_proven(folder, name)]
    for name in unproven:
        match = _PACKAGES.fullmatch(name)
        for each in (name, *([f"{match['release']}_InRelease"] if match is not None else ())):
            remove_own(os.path.join(folder, each))
    return bool(unproven)


def _is_proven(folder: HostPath, name: str) -> bool:
    match = _PACKAGES.fullmatch(name)
    path = os.path.join(folder, name)
    if match is None or not os.path.exists(path):
        return True  # apt has another one by now, which it has checked itself
    with open(os.path.join(folder, f"{match['release']}_InRelease"), encoding="utf-8", errors="replace") as file:
        text = file.read(_MOST_RELEASE)
    _, _, digests = text.partition("\nSHA256:\n")
    place = match["place"].replace("_", "/")
    wanted = re.search(rf"^ ([0-9a-f]{{64}}) +\d+ {re.escape(place)}$", digests, re.MULTILINE)
    return wanted is not None and digest_of_file(path) == wanted[1]
