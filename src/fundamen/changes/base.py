"""Base classes of all changes: the planned step, and its record in the journal.

A **step** is what is to be done on one machine, looked up and computed. Before anything is changed each becomes a
**record**: all that is needed to make it and to undo it. Records are stored on disk as JSON
(docs/formats/journal.md): a field may be added with a default, none renamed. Where something is on the machine is
written down as its location (``machine.places.Ground``), and what was kept of it by its path from the journal's folder
on. So both are found wherever they lie today.
"""

import contextlib
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, Self

import msgspec

from fundamen.machine.machine import Machine
from fundamen.machine.places import Ground, Place
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.calls import remove_folder, set_times

if TYPE_CHECKING:
    from fundamen.changes.form import Form
    from fundamen.machine.overlay import Layer
    from fundamen.model.package import PackageFile
    from fundamen.placing.file_state import FileState
    from fundamen.sources.catalogue import Source

Tell = Callable[[str], None]  # what is given a sentence for people while a step is made
Password = Callable[[str, str], str]  # (directory, name) -> the password; raises FundamenError where there is none

MISSING = "missing"  # what is wrong with a place where nothing stands
AS_AROUND = -1  # in place of a user or group: that of the parent folder
OURS = -1  # instead of a folder's time of change: the folder was last changed by us, so its time is ours to set
NOT_OURS = 0  # it was not
_HOST_PATHS, LOCATIONS = 2, 3  # the forms of records


class EntryOwner(msgspec.Struct, frozen=True):
    """User and group numbers; by default those of the parent folder."""

    uid: int = AS_AROUND
    gid: int = AS_AROUND


class ElsewhereError(Exception):
    """A place is written down that is none of the machine."""


class Site(msgspec.Struct, frozen=True):
    """A machine and the folder of its journal: the context of records."""

    machine: Machine
    folder: HostPath
    password: Password | None = None  # None: no directory can be changed

    @property
    def ground(self) -> Ground:
        """Where the machine's files lie. Raises: UnreadableError: nowhere on this host."""
        return self.machine.ground

    def place(self, location: str) -> Place:
        """Where something is on the machine. Raises: OSError, UnreadableError."""
        return self.ground.place(location)

    def location(self, place: Place) -> str:
        """How a place is written down."""
        return self.ground.location(place)

    def kept_path(self, path: str) -> HostPath:
        """Host path of a kept file, from its path relative to the journal's folder."""
        return HostPath(os.path.join(self.folder, path))

    def as_kept(self, host: str) -> str:
        """How something of ours is written down."""
        return os.path.relpath(host, self.folder)


class FolderTimes(msgspec.Struct, frozen=True):
    """A folder that a step changes, as it was before: it gets its times back, if no one else has changed it since."""

    path: str  # its location
    modified_ns: int
    accessed_ns: int
    after_ns: int = OURS  # its time of change right after the step; OURS until then
    device: int = 0  # which file system it is on, and which of its folders it is; 0 where that was not written down
    inode: int = 0


class Around(msgspec.Struct, frozen=True):
    """The existing and missing folders above a path."""

    missing: tuple[str, ...]  # the locations of the folders that it needs and that are not there, outermost first
    nearest: FolderTimes  # the nearest that is there
    uid: int  # its owner
    gid: int


class Keeping(NamedTuple):
    """Context in which a step becomes a record."""

    site: Site
    target: Place
    contents: Mapping[str, HostPath]  # SHA-256 -> our own copy of the new bytes
    kept_folder: HostPath  # where originals are kept
    number: int  # the step's place among all
    look: Callable[[Place], Around]  # what is around a folder
    vacated: frozenset[str] = frozenset()  # locations where one step sets the entry aside, and another writes a file

    @property
    def kept(self) -> HostPath:
        """Where the original of this step would be kept."""
        return HostPath(os.path.join(self.kept_folder, f"{os.path.basename(self.kept_folder)}-{self.number}"))


class Brought(NamedTuple):
    """Data that a step puts in its place."""

    size: int = 0  # bytes
    sha256: str = ""  # empty for what is no file
    package: str = ""  # for people
    source: str = ""  # its name


class Record(msgspec.Struct, frozen=True, kw_only=True):
    """A step in the journal. Its methods may raise OSError or UnreadableError."""

    path: MachinePath  # for people

    @property
    def undone(self) -> str:
        """Result of the undo, for people."""
        raise NotImplementedError

    @property
    def is_file(self) -> bool:
        """Whether it puts a file or link in its place."""
        return False

    @property
    def is_insertion(self) -> bool:
        """Whether it puts something into a file that others write to as well."""
        return False

    @property
    def is_on_machine(self) -> bool:
        """Whether it changes the machine, and not something elsewhere."""
        return True

    @property
    def place_key(self) -> str:
        """Identifies the changed entry: records with the same key are undone in order."""
        return self.path

    @property
    def batch_size(self) -> int | None:
        """How many bytes it writes; None where it is made by itself, and not in a batch with others."""
        return None

    def make(self, site: Site, tell: Tell) -> None:
        """Make it."""
        raise NotImplementedError

    def is_made(self, site: Site) -> bool:
        """Whether what it is for is so."""
        raise NotImplementedError

    def take_back(self, site: Site) -> None:
        """Make everything as it was."""
        raise NotImplementedError

    def obstacle(self, site: Site) -> str:  # noqa: ARG002 - for those that have one
        """Reason why it can be neither made nor undone; empty if it can."""
        return ""

    def has_original(self, site: Site) -> bool:  # noqa: ARG002
        """Whether what it would change is kept, so that it may be made."""
        return True

    @classmethod
    def settle_kept(cls, records: Sequence[Self], site: Site) -> None:
        """Have what was kept for some records of this kind on the disk, and see that it is whole."""

    @classmethod
    def prepare(cls, records: Sequence[Self], site: Site) -> None:
        """Do what can be done for a batch of this kind before the first of it is made."""

    def around(self) -> tuple[FolderTimes, ...]:
        """The folders that it changes and that were there before."""
        return ()

    def changed_folders(self) -> Iterator[str]:
        """The locations of the folders whose entries or rights it changes."""
        return iter(())

    def with_around(self, folders: tuple[FolderTimes, ...]) -> "Record":  # noqa: ARG002
        """The record with what was found out of the folders around."""
        return self

    def clear_away(self, site: Site) -> None:
        """Remove new folders and restore folder times after the undo."""

    def kept_at(self, site: Site) -> str:  # noqa: ARG002
        """The host path of what is kept of it in the journal's own folder; empty where nothing is."""
        return ""

    def kept_beside(self) -> int:
        """How many bytes are kept beside its place."""
        return 0

    def give_up(self, site: Site) -> None:
        """Let go of what is kept beside its place."""


class FolderRecord(Record, frozen=True, kw_only=True):
    """Base class of records that change an entry of a folder."""

    target: str  # its location
    new_folders: tuple[str, ...] = ()  # that have to be made, outermost first: their locations
    folders: tuple[FolderTimes, ...]  # those that were there before and are changed
    form: int = _HOST_PATHS  # 3: what is written down are locations; 2: host paths, as older versions had it

    @property
    def place_key(self) -> str:
        """Its location."""
        return self.target

    def around(self) -> tuple[FolderTimes, ...]:
        """The folders that were there before and are changed."""
        return self.folders

    def changed_folders(self) -> Iterator[str]:
        """The folders in which it, and new folders for it, stand."""
        yield _folder_of(self.target)
        yield from map(_folder_of, self.new_folders)

    def with_around(self, folders: tuple[FolderTimes, ...]) -> Record:
        """The record with what was found out of the folders around."""
        return msgspec.structs.replace(self, folders=folders)

    def clear_away(self, site: Site) -> None:
        """Remove the new folders that are empty, and give those around their times back."""
        remove_folders(site, self.new_folders)
        give_back_times(site, self.folders)


class Step(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that is to be done on a machine."""

    path: MachinePath  # with all links followed; shown in lists
    because: str  # what is wrong with it now

    @property
    def replaces(self) -> bool:
        """Whether it changes an existing entry."""
        return False

    @property
    def verb(self) -> str:
        """Action in one word, for a preview."""
        raise NotImplementedError

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview, such as old and new values."""
        return ()

    @property
    def writes_file(self) -> bool:
        """Whether a file or link is put in its place."""
        return False

    @property
    def vacates(self) -> bool:
        """Whether it takes the entry away, so that another step may put something in its place."""
        return False

    @property
    def makes_link(self) -> bool:
        """Whether a symbolic link is put in its place."""
        return False

    @property
    def is_shown(self) -> bool:
        """Whether it is reported by itself, and not only done along with others."""
        return True

    @property
    def brought(self) -> Brought:
        """Data that is put in its place."""
        return Brought()

    @property
    def wanted(self) -> "tuple[Source, PackageFile] | None":
        """The file of a source whose bytes must be brought in for it; None where that is done already."""
        return None

    @property
    def installs(self) -> tuple[str, ...]:
        """Packages that the system's package manager installs, with their versions."""
        return ()

    @property
    def is_setting(self) -> bool:
        """Whether it changes what a program reads as it starts."""
        return False

    @property
    def brings_certificate(self) -> bool:
        """Whether it gives an authority another certificate."""
        return False

    @property
    def enables_service(self) -> str:
        """The service that comes up with the machine's next start for it; empty where there is none."""
        return ""

    def in_use(self, machine: Machine) -> HostPath | None:  # noqa: ARG002
        """The entry that goes, which running programs may have open; None where there is none."""
        return None

    def lay_over(self, layer: "Layer", contents: Mapping[str, HostPath]) -> None:
        """Lay over a machine what would be there; what no one traces is not laid over it."""

    def form(self, state: "FileState | None") -> "Form":
        """The step in a plan file, which expects the current state."""
        raise NotImplementedError

    def place(self, machine: Machine) -> Place:
        """Where it stands; the root where it stands nowhere. Raises: OSError, UnreadableError."""
        return machine.ground.place("/")

    def room(self, place: Place) -> tuple[int, int]:  # noqa: ARG002
        """How many bytes it needs (beside its place, in the journal's folder). Raises: OSError."""
        return 0, 0

    def keep(self, keeping: Keeping) -> Record:
        """Keep what it would change, and write down what is to be done; nothing on the machine is changed.

        Raises:
            OSError: it cannot be kept, or is not as the step has it.
        """
        raise NotImplementedError


class Work(msgspec.Struct, frozen=True):
    """All that is to be performed as one restoration."""

    program: MachinePath  # for which it is done
    titles: tuple[str, ...]  # what is brought, for people
    steps: tuple[Step, ...]
    contents: dict[str, HostPath]  # SHA-256 -> our own verified copy of the bytes
    copies: tuple[MachinePath, ...] = ()  # folders of which a cold copy is taken first; if one fails, nothing is done
    further: tuple[MachinePath, ...] = ()  # programs for which it is done as well
    because: str = ""  # why something was asked for that no one proposed, such as an older version


def remove_folders(site: Site, folders: Iterable[str]) -> None:
    """Remove folders that were made, the innermost first; those in which someone has put something stay."""
    for folder in reversed(tuple(folders)):
        with contextlib.suppress(OSError):
            remove_folder(site.place(folder))


def give_back_times(site: Site, folders: Iterable[FolderTimes]) -> None:
    """Give folders that only we have changed the times that they had. Raises: OSError."""
    for each in folders:
        if each.after_ns != NOT_OURS:
            with contextlib.suppress(PermissionError):  # a folder that we may write to, but do not own
                set_times(site.place(each.path), each.accessed_ns, each.modified_ns)


def _folder_of(location: str) -> str:
    folder = location.rpartition("/")[0]
    return folder if folder and not folder.endswith(":") else f"{folder}/"
