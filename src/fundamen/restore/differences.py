"""Find how a place differs from the file or link that a package brings there."""

import contextlib

from fundamen.changes.base import MISSING
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.errors import UnreadableError
from fundamen.model.package import Package, PackageFile
from fundamen.model.paths import MachinePath
from fundamen.restore.steps import LEADS_TO_NOTHING
from fundamen.trust.digest import digest_of

_IMPOSTORS = {
    EntryKind.FOLDER: say("restore.a-folder-is-in-its-place"),
    EntryKind.SPECIAL: say("restore.a-pipe-device-or-socket-is-in-its-place"),
}
_NO_FOLDER = {EntryKind.FILE, EntryKind.SPECIAL}


def has_entry(machine: Machine, place: MachinePath) -> bool:
    """Whether anything stands at a place, be it a link that leads nowhere."""
    return machine.paths.basename(place) in machine.names(machine.folder_of(place))


def find_impostor(machine: Machine, place: MachinePath) -> Message:
    """The wrong entry in the place of a file, link or folder, or of its folder; empty for none."""
    if (impostor := _IMPOSTORS.get(machine.look(place).kind)) is not None:
        return impostor
    folder = machine.folder_of(place)
    while machine.look(folder).kind is EntryKind.ABSENT and folder != machine.folder_of(folder):
        folder = machine.folder_of(folder)
    return (
        say("restore.in-which-it-belongs-is-no", folder=folder) if machine.look(folder).kind in _NO_FOLDER else UNSAID
    )


def why_link_is_placed(machine: Machine, path: MachinePath, place: MachinePath, target: str) -> str:
    """Why a link of a package has to be made; empty where it need not be."""
    if not has_entry(machine, place):
        return MISSING
    kind = machine.look(path).kind
    if kind in _IMPOSTORS and machine.real(path) == place:
        return _IMPOSTORS[kind]
    if kind in {EntryKind.ABSENT, EntryKind.BLOCKED}:
        with contextlib.suppress(OSError, UnreadableError):  # it is no link
            return LEADS_TO_NOTHING if machine.entry_place(place).link() != target else ""
    return ""


def find_difference(machine: Machine, path: MachinePath, package: Package, file: PackageFile) -> str | None:
    """The difference of a file from the package's own; None where it is the package's."""
    entry = machine.look(path)
    if entry.kind is EntryKind.ABSENT:
        return LEADS_TO_NOTHING if has_entry(machine, path) else MISSING
    try:
        with machine.open(path) as source:
            if source.size == file.size and digest_of(source) == file.sha256:
                return None
    except UnreadableError as error:
        return _how_it_differs(machine, path, package, error.why, error.why)
    if machine.fold(machine.real(path)) != machine.fold(path):
        return say("restore.it-is-a-link-to", real=machine.real(path))
    return _how_it_differs(machine, path, package, "corrupt", "other bytes")


def _how_it_differs(machine: Machine, path: MachinePath, package: Package, unread: str, otherwise: str) -> str:
    """The difference of a file, as far as its headers show it: ``unread`` where they show nothing."""
    try:
        binary = machine.binary(path)
    except UnreadableError:
        return unread
    if binary.problems:
        return "corrupt"
    if not binary.architecture.serves(package.architecture):
        return say("restore.for-not", architecture=binary.architecture, other_architecture=package.architecture)
    return otherwise
