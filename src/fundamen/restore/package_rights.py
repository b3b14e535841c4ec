"""Find rights that a program has lost: set-user-id bits, its owner, capabilities, as its package gives them.

Nothing else tells of them: a loader needs none, and the package database has none. A program gets them back only if its
bytes are those of the package.
"""

from collections.abc import Iterable, Iterator

from fundamen.changes.files import rights_of
from fundamen.changes.rights import ChangeRights, give
from fundamen.evidence.debian_capabilities import capabilities_given_to
from fundamen.formats.unix.access import capability_bytes
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.package import Base, PackageFile
from fundamen.model.paths import MachinePath
from fundamen.sources.catalogue import Catalogue, SourceKind
from fundamen.trust.digest import digest_of


def find_lost_rights(machine: Machine, path: MachinePath, catalogues: Iterable[Catalogue]) -> Iterator[ChangeRights]:
    """The step that gives a file the rights of its package; none where it has them, or is not the package's file.

    Args:
        machine: on which the file lies.
        path: of the file.
        catalogues: of the operating system's archive.
    """
    real = machine.real(path)
    if machine.platform is not Platform.LINUX or machine.look(real).kind is not EntryKind.FILE:
        return
    for catalogue in catalogues:
        if catalogue.source.kind is not SourceKind.ARCHIVE:
            continue
        for package in catalogue.packages_with([machine.paths.basename(real)]):
            for file in package.files:
                if file.base is Base.ROOT and machine.real(MachinePath(f"/{file.place}")) == real:
                    yield from _lost_by(machine, real, file)
                    return


def _lost_by(machine: Machine, path: MachinePath, file: PackageFile) -> Iterator[ChangeRights]:
    try:
        with machine.open(path) as source:
            if source.size != file.size or digest_of(source) != file.sha256:
                return
    except UnreadableError:
        return
    mode, owner = rights_of(machine, file)
    capabilities = capabilities_given_to(machine, path)
    try:
        data = capability_bytes(capabilities) if capabilities else None
    except ValueError:
        data = None
    step = give(machine, path, mode or 0, owner, data, say("restore.not-as-its-package-gives-them"))
    if step.before != step.after:
        yield step
