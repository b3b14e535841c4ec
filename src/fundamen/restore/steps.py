"""The steps of a restoration, whatever asked for it."""

import msgspec

from fundamen.directories.connection import Attributes, Place
from fundamen.machine.accounts import GROUPS, USERS, number_of
from fundamen.machine.machine import Machine
from fundamen.model.package import Package, PackageFile, PackageFolder
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import FileState
from fundamen.restore.insertions import Insertion
from fundamen.sources.apt import Wanted
from fundamen.sources.catalogue import Source

MISSING = "missing"  # what is wrong with a place where nothing stands
AS_AROUND = -1  # in place of a user or group
_IN_THEIR_NAME = 0o6000  # bits by which a program runs as its owner or group: chmod(1)


class Owner(msgspec.Struct, frozen=True):
    """To whom something belongs, as the machine numbers users and groups; at first to whoever has the folder."""

    uid: int = AS_AROUND
    gid: int = AS_AROUND


class Change(msgspec.Struct, frozen=True, kw_only=True):
    """One step: a file gets other content, and what stood there is kept."""

    path: MachinePath  # with all links followed
    because: str  # what is wrong with the place now
    sha256: str  # of the new content
    size: int  # bytes
    executable: bool = False
    mode: int | None = None  # permission bits of a new file, where the publisher says
    owner: Owner = Owner()  # to whom a new file belongs
    keeps_mode: bool = True  # whether a file that is replaced keeps mode and owner that it has
    link: str = ""  # where a symbolic link is made instead: its target, as it stands in the link
    location: str = ""  # where it lies, if not at its path (``machine.places.Ground``)
    insertion: Insertion | None = None  # where the new content is the old one with something put in
    details: tuple[str, ...] = ()  # what of the content changes, for people
    state: FileState | None = None  # all that is to stand there, where that is known: owner, times, attributes

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is replaced."""
        return self.because != MISSING


class Move(msgspec.Struct, frozen=True, kw_only=True):
    """One step: a file or folder is set aside, with everything in it."""

    path: MachinePath
    because: str
    aside: MachinePath  # where it lies then, on the same file system

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is changed."""
        return True


class SetFolder(msgspec.Struct, frozen=True, kw_only=True):
    """One step: a folder is made, or gets other rights and another owner."""

    path: MachinePath
    because: str
    state: FileState  # with AS_AROUND it belongs to whoever has the folder around it
    location: str = ""  # as for a change
    gives_times: bool = False  # whether it gets only its times: the last thing that is done to it
    yields: bool = False  # whether it may belong to us where we may not give it away

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is changed."""
        return self.because != MISSING


class InstallPackages(msgspec.Struct, frozen=True, kw_only=True):
    """One step: packages of the operating system's archive are installed by its package manager."""

    path: MachinePath  # what stands for it in lists: the packages' names
    because: str
    packages: tuple[Wanted, ...]
    files: tuple[HostPath, ...]  # of each, checked by apt

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is changed."""
        return False


class StartService(msgspec.Struct, frozen=True, kw_only=True):
    """One step: a service of this host is started."""

    path: MachinePath  # what stands for it in lists
    because: str
    name: str

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is changed."""
        return False


class RunInstaller(msgspec.Struct, frozen=True, kw_only=True):
    """One step: a publisher's installer is run in a prefix."""

    path: MachinePath
    because: str
    sha256: str
    publisher: str  # who has signed it, for people
    arguments: tuple[str, ...]
    log: str
    seconds: float
    wine: tuple[str, str, str]  # as of the record
    environment: tuple[tuple[str, str], ...]  # that it is run in

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is changed."""
        return False


class ChangeLimit(msgspec.Struct, frozen=True, kw_only=True):
    """One step: a limit of this host's running kernel is set."""

    path: MachinePath  # the file of the kernel that has it
    because: str
    name: str  # as sysctl writes it
    before: str
    after: str

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is changed."""
        return True


class ChangeEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One step: an entry of a directory gets other attributes."""

    path: MachinePath  # what stands for it in lists
    because: str
    place: Place
    login: str  # the name as whom it is changed
    entry: str
    before: Attributes  # of those that are changed, each attribute's values sorted
    after: Attributes

    @property
    def replaces(self) -> bool:
        """Whether something stands there that is changed."""
        return True


Step = Change | Move | SetFolder | InstallPackages | StartService | RunInstaller | ChangeLimit | ChangeEntry


class PlaceFile(Change, frozen=True, kw_only=True):
    """A file of a package is put in its place."""

    file: PackageFile
    package: Package
    source: Source


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


def rights_of(machine: Machine, entry: PackageFile | PackageFolder) -> tuple[int | None, Owner]:
    """Mode and owner of something of a package on a machine; no mode where the publisher does not say.

    Where the machine has not the user or the group, nothing may be run in their name.
    """
    uid, gid = number_of(machine, entry.owner, USERS), number_of(machine, entry.group, GROUPS)
    if uid is not None and gid is not None:
        return entry.mode, Owner(uid, gid)
    is_theirs = entry.mode is not None and bool(entry.owner or entry.group)
    return (entry.mode & ~_IN_THEIR_NAME if is_theirs and entry.mode is not None else entry.mode), Owner()


def free_aside(machine: Machine, path: MachinePath) -> MachinePath:
    """A name beside a place under which something can be set aside."""
    folder, name = machine.folder_of(path), machine.paths.basename(path)
    taken = {machine.folded(each) for each in machine.names(folder)}
    number = 1
    while machine.folded(f"{name}.aside-{number}") in taken:
        number += 1
    return machine.join(folder, f"{name}.aside-{number}")


class Work(msgspec.Struct, frozen=True):
    """All that is to be carried out as one restoration."""

    program: MachinePath  # for which it is done
    titles: tuple[str, ...]  # what is brought, for people
    steps: tuple[Step, ...]
    contents: dict[str, HostPath]  # SHA-256 -> our own verified copy of the bytes
    copies: tuple[MachinePath, ...] = ()  # folders of which a cold copy is taken first; if one fails, nothing is done
    further: tuple[MachinePath, ...] = ()  # programs for which it is done as well
    because: str = ""  # why something was asked for that nobody proposed, such as an older version
