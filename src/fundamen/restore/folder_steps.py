"""The step that makes a folder, or gives one other rights and another owner; what lies in it is not touched."""

import stat

import msgspec

from fundamen.machine.places import Place
from fundamen.placing.file_state import FileState, state_of
from fundamen.placing.replacing import dress_folder
from fundamen.restore.folders import around, make_folders, owner_in, times_of
from fundamen.restore.records import LOCATIONS, FolderRecord, Site
from fundamen.restore.steps import SetFolder


def keep(step: SetFolder, site: Site, target: Place) -> FolderRecord:
    """Write down what stands there and what is to stand there; nothing is changed.

    Raises:
        OSError: something else than a folder stands there.
    """
    before = _state(target)
    if step.gives_times:  # it was made by an earlier step, or stood there
        return FolderRecord(
            path=step.path,
            target=site.location(target),
            before=before,
            after=step.state,
            folders=(times_of(site, target),) if before is not None else (),
            form=LOCATIONS,
        )
    place = around(site, target)
    uid, gid = step.state.uid, step.state.gid
    if step.yields:
        uid, gid = owner_in(place, uid, gid)
    return FolderRecord(
        path=step.path,
        target=site.location(target),
        before=before,
        after=msgspec.structs.replace(step.state, uid=uid, gid=gid, modified_ns=-1, accessed_ns=-1),
        new_folders=place.missing,
        folders=(place.nearest,) if before is None else (),
        form=LOCATIONS,
    )


def make_folder(record: FolderRecord, site: Site) -> None:
    """Make it, with its rights. Raises: OSError."""
    make_folders(site, record.new_folders)
    dress_folder(site.place(record.target), record.after)


def is_made(record: FolderRecord, site: Site) -> bool:
    """Whether it stands there with its rights. Raises: OSError."""
    return _is(_state(site.place(record.target)), record.after)


def obstacle(record: FolderRecord, site: Site) -> str:
    """Why it can be neither made nor taken back; empty where it can, also where it is gone. Raises: OSError."""
    now = _state(site.place(record.target))
    if now is None or record.new_folders or _is(now, record.after) or _is(now, record.before):
        return ""
    return "its rights are neither as before nor as restored"


def take_back_folder(record: FolderRecord, site: Site) -> None:
    """Give it back the rights that it had; one that was made is removed with the other new folders. Raises: OSError."""
    target = site.place(record.target)
    if record.before is not None and target.is_folder:
        dress_folder(target, msgspec.structs.replace(record.before, modified_ns=-1))


def _state(place: Place) -> FileState | None:
    status = place.status_or_none()
    if status is None:
        return None
    if not stat.S_ISDIR(status.st_mode):
        raise OSError(0, "something else than a folder stands there", place.host)
    return state_of(place, status, "")


def _is(state: FileState | None, other: FileState | None) -> bool:
    if state is None or other is None:
        return state is other
    return (state.mode, state.uid, state.gid) == (other.mode, other.uid, other.gid)
