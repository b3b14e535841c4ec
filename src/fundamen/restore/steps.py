"""The steps that put what a package has in its place."""

from collections.abc import Mapping

from fundamen.changes.base import AS_AROUND, MISSING, Brought
from fundamen.changes.files import Change, MakeLink, PutFile, rights_of
from fundamen.changes.folders import MakeFolder, SetFolder
from fundamen.changes.form import Expected
from fundamen.machine.machine import Machine
from fundamen.machine.overlay import Layer
from fundamen.machine.places import Place
from fundamen.model.package import Package, PackageFile, PackageFolder
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import FileState
from fundamen.sources.catalogue import Source

_IN_THEIR_NAME = 0o6000  # bits by which a program runs as its owner or group: chmod(1)

LEADS_TO_NOTHING = "it is a link that leads to nothing"  # why a link is placed


class PlaceFile(Change, frozen=True, kw_only=True):
    """A file of a package is put in its place."""

    file: PackageFile
    package: Package
    source: Source

    @property
    def brought(self) -> Brought:
        """Data that is put in its place."""
        return Brought(self.size, self.sha256, self.package.title, self.source.name)

    @property
    def wanted(self) -> tuple[Source, PackageFile]:
        """Its file."""
        return self.source, self.file

    def form(self, state: FileState | None) -> PutFile:
        """The step in a plan file, which expects the current state."""
        return PutFile(
            path=self.path,
            because=self.because,
            sha256=self.sha256,
            size=self.size,
            name=self.file.name,
            package=self.package.title,
            source=self.source.name,
            executable=self.executable,
            mode=self.mode & 0o777 if self.mode is not None else None,  # more the source itself says
            expects=expected_state(state),
        )

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

    @property
    def brought(self) -> Brought:
        """Data that is put in its place."""
        return Brought(self.size, self.sha256, self.package.title, self.source.name)

    def lay_over(self, layer: Layer, _contents: Mapping[str, HostPath]) -> None:
        """Lay it over a machine."""
        layer.links[self.path] = self.leads_to

    def form(self, state: FileState | None) -> MakeLink:
        """The step in a plan file, which expects the current state."""
        return MakeLink(path=self.path, because=self.because, target=self.link, expects=expected_state(state))


class PlaceFolder(SetFolder, frozen=True, kw_only=True):
    """A folder of a package is made where nothing stands."""

    yields: bool = True
    package: Package
    source: Source

    @property
    def brought(self) -> Brought:
        """Of which package it is."""
        return Brought(package=self.package.title, source=self.source.name)

    def form(self, _state: FileState | None) -> MakeFolder:
        """The step in a plan file."""
        numbers = (self.state.uid, self.state.gid)
        uid, gid = (f"#{number}" if number != AS_AROUND else "" for number in numbers)
        return MakeFolder(path=self.path, because=self.because, mode=self.state.mode, owner=uid, group=gid)


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


def expected_state(state: FileState | None) -> Expected:
    """The entry that a plan file expects in a place."""
    return Expected(state.sha256, state.link) if state is not None else Expected()


def place_folder(
    machine: Machine, path: MachinePath, folder: PackageFolder, package: Package, source: Source
) -> PlaceFolder:
    """The step that makes a package's folder at a path."""
    mode, owner = rights_of(machine, folder)
    state = FileState(0, "", folder.mode if mode is None else mode, owner.uid, owner.gid, -1, -1)
    return PlaceFolder(path=path, because=MISSING, state=state, package=package, source=source)
