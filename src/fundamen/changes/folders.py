"""The step that makes a folder, or gives one other rights and another owner; what lies in it is not touched."""

import stat
from collections.abc import Iterator, Mapping
from typing import Annotated

import msgspec

from fundamen.changes.around import around, make_folders, owner_in, times_of
from fundamen.changes.base import AS_AROUND, LOCATIONS, MISSING, FolderRecord, Keeping, Site, Step, Tell
from fundamen.changes.form import Form, PlanResolution, unfit
from fundamen.machine.accounts import GROUPS, USERS, number_of
from fundamen.machine.machine import Machine
from fundamen.machine.overlay import Layer
from fundamen.machine.places import Place
from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import FileState, state_of
from fundamen.placing.replacing import dress_folder


class MadeFolderRecord(FolderRecord, frozen=True, kw_only=True, tag_field="kind", tag="folder"):
    """A folder is made, or gets other rights and another owner."""

    before: FileState | None  # None: nothing was there
    after: FileState  # with times only where they are to be given

    @property
    def undone(self) -> str:
        """Result of the undo, for people."""
        return "removed" if self.new_folders else "as before"

    def changed_folders(self) -> Iterator[str]:
        """It itself, for its own rights and times, and those around it."""
        yield self.target
        yield from FolderRecord.changed_folders(self)

    def make(self, site: Site, _tell: Tell) -> None:
        """Make it, with its rights."""
        make_folders(site, self.new_folders)
        dress_folder(site.place(self.target), self.after)

    def is_made(self, site: Site) -> bool:
        """Whether it is there with its rights."""
        return _is(_state(site.place(self.target)), self.after)

    def obstacle(self, site: Site) -> Message:
        """Why it can be neither made nor undone; empty where it can, also where it is gone."""
        now = _state(site.place(self.target))
        if now is None or self.new_folders or _is(now, self.after) or _is(now, self.before):
            return UNSAID
        return say("changes.its-rights-are-neither-as-before")

    def take_back(self, site: Site) -> None:
        """Give it back the rights that it had; one that was made is removed with the other new folders."""
        target = site.place(self.target)
        if self.before is not None and target.is_folder:
            dress_folder(target, msgspec.structs.replace(self.before, modified_ns=-1))


class SetFolder(Step, frozen=True, kw_only=True):
    """One step: a folder is made, or gets other rights and another owner."""

    verb = "folder"

    state: FileState  # with AS_AROUND it belongs to the owner of the folder around it
    location: str = ""  # as for a change
    gives_times: bool = False  # whether it gets only its times: the last thing that is done to it
    yields: bool = False  # whether it may belong to us where we may not give it away

    @property
    def replaces(self) -> bool:
        """Whether it changes an existing entry."""
        return self.because != MISSING

    @property
    def is_shown(self) -> bool:
        """Whether it is reported by itself, and not only done along with others."""
        return not self.gives_times

    def place(self, machine: Machine) -> Place:
        """Where it stands. Raises: OSError, UnreadableError."""
        return machine.ground.place(self.location) if self.location else machine.place(self.path)

    def lay_over(self, layer: Layer, _contents: Mapping[str, HostPath]) -> None:
        """Lay it over a machine."""
        layer.made.append(self.path)

    def keep(self, keeping: Keeping) -> MadeFolderRecord:
        """Write down what is there and what is to be there; nothing is changed.

        Raises:
            OSError: it is not a folder.
        """
        site, target = keeping.site, keeping.target
        before = _state(target)
        if self.gives_times:  # it was made by an earlier step, or was there
            return MadeFolderRecord(
                path=self.path,
                target=site.location(target),
                before=before,
                after=self.state,
                folders=(times_of(site, target),) if before is not None else (),
                form=LOCATIONS,
            )
        place = around(site, target)
        uid, gid = self.state.uid, self.state.gid
        if self.yields:
            uid, gid = owner_in(place, uid, gid)
        return MadeFolderRecord(
            path=self.path,
            target=site.location(target),
            before=before,
            after=msgspec.structs.replace(self.state, uid=uid, gid=gid, modified_ns=-1, accessed_ns=-1),
            new_folders=place.missing,
            folders=(place.nearest,) if before is None else (),
            form=LOCATIONS,
        )


def _state(place: Place) -> FileState | None:
    status = place.status_or_none()
    if status is None:
        return None
    if not stat.S_ISDIR(status.st_mode):
        raise OSError(0, say("changes.it-is-not-a-folder"), place.host)
    return state_of(place, status, "")


def _is(state: FileState | None, other: FileState | None) -> bool:
    if state is None or other is None:
        return state is other
    return (state.mode, state.uid, state.gid) == (other.mode, other.uid, other.gid)


class MakeFolder(Form, frozen=True, kw_only=True, tag="make folder"):
    """A folder is made where nothing stands."""

    mode: Annotated[int, msgspec.Meta(ge=0, le=0o3777)] = 0o755
    owner: Annotated[str, msgspec.Meta(max_length=100)] = ""  # a user by name; empty for the owner of the folder around
    group: Annotated[str, msgspec.Meta(max_length=100)] = ""

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        path, place = resolving.entry(self.path)
        if place.is_folder:
            return  # someone has done it meanwhile
        if place.is_there:
            raise unfit(path, say("changes.it-is-not-a-folder"))
        uid, gid = (
            _number(resolving.machine, path, self.owner, USERS),
            _number(resolving.machine, path, self.group, GROUPS),
        )
        state = FileState(0, "", self.mode, uid, gid, -1, -1)
        because, location = self.because or MISSING, resolving.location(place)
        resolving.set(path, SetFolder(path=path, location=location, because=because, state=state, yields=True))


def _number(machine: Machine, path: MachinePath, name: str, of: MachinePath) -> int:
    number = number_of(machine, name, of) if name else AS_AROUND
    if number is None:
        raise unfit(path, say("changes.it-is-to-belong-to-whom", name=printable(name), of=of))
    return number
