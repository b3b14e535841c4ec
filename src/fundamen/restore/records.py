"""What the journal writes down of each step before it is made: all that is needed to make it, and to take it back.

These are what lies on the disk, as JSON (docs/formats/journal.md): a field may be added with a default, none renamed.
Where something stands on the machine is written down as its location (``machine.places.Ground``), and what was kept of
it by its path from the journal's folder on. So both are found wherever they lie today.
"""

import os
from collections.abc import Callable
from typing import Any

import msgspec

from fundamen.machine.machine import Machine
from fundamen.machine.places import Ground, Place
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.placing.file_state import FileState
from fundamen.restore.insertions import Insertion

Tell = Callable[[str], None]  # what is given a sentence for people while a step is made

OURS = -1  # instead of a folder's time of change: the folder was last changed by us, so its time is ours to set
SOMEBODY_ELSES = 0  # it was not
_HOST_PATHS, LOCATIONS = 2, 3


class ElsewhereError(Exception):
    """A place is written down that is none of the machine."""


class Site(msgspec.Struct, frozen=True):
    """What records speak of: a machine, and the folder of its journal."""

    machine: Machine
    folder: HostPath

    @property
    def ground(self) -> Ground:
        """Where the machine's files lie. Raises: UnreadableError: nowhere on this host."""
        return self.machine.ground

    def place(self, location: str) -> Place:
        """Where something stands on the machine. Raises: OSError, UnreadableError."""
        return self.ground.place(location)

    def location(self, place: Place) -> str:
        """How a place is written down."""
        return self.ground.location(place)

    def kept(self, path: str) -> HostPath:
        """Where something of ours lies that is written down by its path from the journal's folder on."""
        return HostPath(os.path.join(self.folder, path))

    def as_kept(self, host: str) -> str:
        """How something of ours is written down."""
        return os.path.relpath(host, self.folder)


class FolderTimes(msgspec.Struct, frozen=True):
    """A folder that a step changes, as it was before: it gets its times back, if nobody else has changed it since."""

    path: str  # its location
    modified_ns: int
    accessed_ns: int
    after_ns: int = OURS  # its time of change right after the step; OURS until then
    device: int = 0  # which file system it is on, and which of its folders it is; 0 where that was not written down
    inode: int = 0


class StepRecord(msgspec.Struct, frozen=True, kw_only=True):
    """What every step in a folder has."""

    path: MachinePath
    target: str  # its location
    new_folders: tuple[str, ...] = ()  # that have to be made, outermost first: their locations
    folders: tuple[FolderTimes, ...]  # those that were there before and are changed
    form: int = 2  # 3: what is written down are locations; 2: host paths, as older versions had it


class EntryRecord(StepRecord, frozen=True, kw_only=True, tag_field="kind", tag="entry"):
    """A file or link is put in a place."""

    staged: str  # the location beside the target of what may have been left behind
    kept: str  # where the original's bytes are kept; empty where nothing stood there, or a link
    before: FileState | None  # None: nothing stood there
    after: FileState
    content: str = ""  # the host path of our copy of the new bytes; empty for a link
    insertion: Insertion | None = None  # what was put into a file that others write to as well
    keeps_inode: bool = False  # whether ``kept`` is the location of the original itself under another name: it has more

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "taken away" if self.before is None else "put back"


class MoveRecord(StepRecord, frozen=True, kw_only=True, tag_field="kind", tag="move"):
    """A file or folder is set aside under another name beside it."""

    aside: str  # its location

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "moved back"


class FolderRecord(StepRecord, frozen=True, kw_only=True, tag_field="kind", tag="folder"):
    """A folder is made, or gets other rights and another owner."""

    before: FileState | None  # None: nothing stood there
    after: FileState  # with times only where they are to be given

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "taken away" if self.new_folders else "as before"


class PackagesRecord(msgspec.Struct, frozen=True, kw_only=True, tag_field="kind", tag="packages"):
    """Packages are installed by the operating system's package manager."""

    path: MachinePath  # for people
    names: tuple[str, ...]  # with their architectures, as NAME:ARCHITECTURE; none of them was known before
    versions: tuple[str, ...]  # of each
    files: tuple[str, ...]  # the host paths of the packages, as apt has fetched and checked them

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "purged"


class ServiceRecord(msgspec.Struct, frozen=True, kw_only=True, tag_field="kind", tag="service"):
    """A service of this host is started."""

    path: MachinePath  # for people
    name: str
    was_running: bool

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "left running" if self.was_running else "stopped"


class InstallerRecord(msgspec.Struct, frozen=True, kw_only=True, tag_field="kind", tag="installer"):
    """A publisher's installer is run in a prefix."""

    path: MachinePath
    sha256: str
    arguments: tuple[str, ...]
    log: str  # where it is told to write its log, as the prefix spells it; empty for the place of ours
    seconds: float  # how long it may take
    wine: tuple[str, str, str]  # the host paths of wine and its server, and its version
    kept: str  # how the paths of what is kept begin: .json and .tar.zst, and afterwards -after.json
    environment: tuple[tuple[str, str], ...] = ()  # that it is run in

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "brought back"


class LimitRecord(msgspec.Struct, frozen=True, kw_only=True, tag_field="kind", tag="limit"):
    """A limit of this host's running kernel is set."""

    path: MachinePath  # the file of the kernel that has it
    name: str
    before: str
    after: str

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "as before"


class DirectoryRecord(msgspec.Struct, frozen=True, kw_only=True, tag_field="kind", tag="directory"):
    """An entry of a directory (LDAP) gets other attributes. The password stands nowhere."""

    path: MachinePath  # for people
    server: str
    port: int
    tls: bool
    roots: str  # the host path of certificates that its chain may end in; empty for those that this host trusts
    login: str  # the name as whom it is changed
    entry: str  # its distinguished name
    before: dict[str, tuple[str, ...]]  # the values of each attribute that is changed, in Base64, sorted
    after: dict[str, tuple[str, ...]]  # likewise
    kept: str  # where all that the entry held is kept, as LDIF

    @property
    def undone(self) -> str:
        """What taking it back does, for people."""
        return "as before"


Record = (
    EntryRecord
    | MoveRecord
    | FolderRecord
    | PackagesRecord
    | ServiceRecord
    | InstallerRecord
    | LimitRecord
    | DirectoryRecord
)

_KINDS: dict[str, Any] = {
    "entry": EntryRecord,
    "move": MoveRecord,
    "folder": FolderRecord,
    "packages": PackagesRecord,
    "service": ServiceRecord,
    "installer": InstallerRecord,
    "limit": LimitRecord,
    "directory": DirectoryRecord,
}


def decoded(fields: dict[str, Any], site: Site) -> Record:
    """A record from what the journal holds, also what the formats before this one held.

    Raises:
        ElsewhereError: it is of an older version, and of a machine that was mounted elsewhere.
        msgspec.ValidationError: it is none.
        ValueError: it is of a kind that is not known here.
    """
    if "kind" not in fields:
        fields = _from_format_1(fields)
    kind = _KINDS.get(str(fields["kind"]))
    if kind is None:
        raise ValueError(f"it has a step of the kind {fields['kind']!r}, which this version does not know")
    if issubclass(kind, StepRecord) and fields.get("form", _HOST_PATHS) == _HOST_PATHS:
        fields = _from_format_2(fields, site)
    record: Record = msgspec.convert(fields, type=kind)
    return record


def _from_format_2(fields: dict[str, Any], site: Site) -> dict[str, Any]:
    """Format 2 wrote host paths down, by where the machine was mounted."""

    def location(host: str) -> str:
        try:
            return site.location(site.ground.place_of(host))
        except OSError as error:
            why = f"it tells of {shown(host)}, and the machine lies at {shown(site.machine.root)} now"
            raise ElsewhereError(why) from error

    fields = {**fields, "form": LOCATIONS, "target": location(fields["target"])}
    fields["new_folders"] = [location(each) for each in fields.get("new_folders", ())]
    fields["folders"] = [{**each, "path": location(each["path"])} for each in fields["folders"]]
    for name in ("staged", "aside"):
        if name in fields:
            fields[name] = location(fields[name])
    if fields.get("keeps_inode"):
        fields["kept"] = location(fields["kept"])
    return fields


def _from_format_1(fields: dict[str, Any]) -> dict[str, Any]:
    """Format 1 knew files only, and what they would be by digest or link; and the one folder nearest to each."""
    after = FileState(0, fields["after_sha256"], 0o644, -1, -1, -1, -1, link=fields.get("link", ""))
    nearest = os.path.dirname(fields["new_folders"][0] if fields["new_folders"] else fields["target"])
    after_ns = fields.get("folder_after_ns", OURS)
    times = FolderTimes(nearest, fields["folder_modified_ns"], fields["folder_accessed_ns"], after_ns)
    return {**fields, "kind": "entry", "after": msgspec.to_builtins(after), "folders": [msgspec.to_builtins(times)]}
