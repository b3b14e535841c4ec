"""The steps that put what a package has in its place."""

from fundamen.changes.base import MISSING
from fundamen.changes.files import Change, rights_of
from fundamen.changes.folders import SetFolder
from fundamen.machine.machine import Machine
from fundamen.machine.places import Place
from fundamen.model.package import Package, PackageFile, PackageFolder
from fundamen.model.paths import MachinePath
from fundamen.placing.file_state import FileState
from fundamen.sources.catalogue import Source

_IN_THEIR_NAME = 0o6000  # bits by which a program runs as its owner or group: chmod(1)


class PlaceFile(Change, frozen=True, kw_only=True):
    """A file of a package is put in its place."""

    file: PackageFile
    package: Package
    source: Source

    def place(self, machine: Machine) -> Place:
        """Its own place: where a link stood, what it led to is not changed."""
        return machine.entry_place(self.path)


class PlaceLink(Change, frozen=True, kw_only=True):
    """A symbolic link of a package is made where nothing stands.

    The digest is that of the package's own file to which it leads; empty where it leads to something else.
    """

    leads_to: MachinePath
    package: Package
    source: Source


class PlaceFolder(SetFolder, frozen=True, kw_only=True):
    """A folder of a package is made where nothing stands."""

    yields: bool = True
    package: Package
    source: Source


def place_file(
    machine: Machine, path: MachinePath, file: PackageFile, package: Package, source: Source, because: str
) -> PlaceFile:
    """The step that puts a package's file at a path."""
    mode, owner = rights_of(machine, file)
    return PlaceFile(
        path=path,
        because=because,
        sha256=file.sha256,
        size=file.size,
        executable=file.executable,
        mode=mode,
        owner=owner,
        file=file,
        package=package,
        source=source,
    )


def place_folder(
    machine: Machine, path: MachinePath, folder: PackageFolder, package: Package, source: Source
) -> PlaceFolder:
    """The step that makes a package's folder at a path."""
    mode, owner = rights_of(machine, folder)
    state = FileState(0, "", folder.mode if mode is None else mode, owner.uid, owner.gid, -1, -1)
    return PlaceFolder(path=path, because=MISSING, state=state, package=package, source=source)
