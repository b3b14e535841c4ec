"""Find rights that a program has lost: set-user-id bits, its owner, capabilities, as its package gives them.

Nothing else tells of them: a loader needs none, and the package database has none. A program gets them back only if its
bytes are those of the package.
"""

from collections.abc import Iterable, Iterator

import msgspec

from fundamen.changes.files import rights_of
from fundamen.changes.rights import ChangeRights, give
from fundamen.evidence.debian_given_rights import rights_given_to
from fundamen.formats.unix.access import capability_bytes
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.package import Base, PackageFile, PackageFolder
from fundamen.model.paths import MachinePath
from fundamen.sources.catalogue import Catalogue, SourceKind
from fundamen.trust.digest import digest_of

_MOST_PACKAGES = 100  # that own one path


def find_lost_rights(machine: Machine, path: MachinePath, catalogues: Iterable[Catalogue]) -> Iterator[ChangeRights]:
    """The step that gives a file or folder the rights of its package; none where it has them, or is not the package's.

    Args:
        machine: on which it lies.
        path: of the file or folder.
        catalogues: of the operating system's archive.
    """
    real = machine.real(path)
    kind = machine.look(real).kind
    if machine.platform is not Platform.LINUX or kind not in {EntryKind.FILE, EntryKind.FOLDER}:
        return
    for catalogue in catalogues:
        if catalogue.source.kind is not SourceKind.ARCHIVE:
            continue
        for package in catalogue.first(_MOST_PACKAGES):
            entries = package.files if kind is EntryKind.FILE else package.folders
            for entry in entries:
                if entry.base is Base.ROOT and machine.real(MachinePath(f"/{entry.place}")) == real:
                    yield from _lost_by(machine, real, entry)
                    return


def _lost_by(machine: Machine, path: MachinePath, file: PackageFile | PackageFolder) -> Iterator[ChangeRights]:
    if isinstance(file, PackageFile) and not _has_its_bytes(machine, path, file):
        return
    given = rights_given_to(machine, path)
    if given.mode is not None:
        file = msgspec.structs.replace(
            file, mode=given.mode, owner=given.owner or file.owner, group=given.group or file.group
        )
    mode, owner = rights_of(machine, file)
    try:
        data = capability_bytes(given.capabilities) if given.capabilities else None
    except ValueError:
        data = None
    if isinstance(file, PackageFolder):
        data = None
    step = give(machine, path, mode or 0, owner, data, say("restore.not-as-its-package-gives-them"))
    if step.before != step.after:
        yield step


def _has_its_bytes(machine: Machine, path: MachinePath, file: PackageFile) -> bool:
    """Whether a file is the package's own: nothing else may run with its owner's rights."""
    try:
        with machine.open(path) as source:
            return source.size == file.size and digest_of(source) == file.sha256
    except UnreadableError:
        return False
