"""The step that makes a folder, or gives one other rights and another owner; what lies in it is not touched."""

import os
import stat

import msgspec

from fundamen.model.paths import HostPath
from fundamen.placing.file_state import FileState, state_of
from fundamen.placing.replacing import dress_folder
from fundamen.restore.folders import around, make_folders, owner_in, times_of
from fundamen.restore.records import FolderRecord
from fundamen.restore.steps import SetFolder


def keep(step: SetFolder, target: HostPath) -> FolderRecord:
    """Write down what stands there and what is to stand there; nothing is changed.

    Raises:
        OSError: something else than a folder stands there.
    """
    before = _state(target)
    if step.gives_times:  # it was made by an earlier step, or stood there
        return FolderRecord(
            path=step.path,
            target=target,
            before=before,
            after=step.state,
            folders=(times_of(target),) if before is not None else (),
        )
    place = around(target)
    uid, gid = step.state.uid, step.state.gid
    if step.yields:
        uid, gid = owner_in(place, uid, gid)
    return FolderRecord(
        path=step.path,
        target=target,
        before=before,
        after=msgspec.structs.replace(step.state, uid=uid, gid=gid, modified_ns=-1, accessed_ns=-1),
        new_folders=place.missing,
        folders=(place.nearest,) if before is None else (),
    )


def make_folder(record: FolderRecord) -> None:
    """Make it, with its rights. Raises: OSError."""
    make_folders(record.new_folders)
    dress_folder(HostPath(record.target), record.after)


def is_made(record: FolderRecord) -> bool:
    """Whether it stands there with its rights. Raises: OSError."""
    return _is(_state(HostPath(record.target)), record.after)


def obstacle(record: FolderRecord) -> str:
    """Why it can be neither made nor taken back; empty where it can, also where it is gone. Raises: OSError."""
    now = _state(HostPath(record.target))
    if now is None or record.new_folders or _is(now, record.after) or _is(now, record.before):
        return ""
    return "its rights are neither as before nor as restored"


def take_back_folder(record: FolderRecord) -> None:
    """Give it back the rights that it had; one that was made is removed with the other new folders. Raises: OSError."""
    if record.before is not None and os.path.isdir(record.target):
        dress_folder(HostPath(record.target), msgspec.structs.replace(record.before, modified_ns=-1))


def _state(path: HostPath) -> FileState | None:
    try:
        status = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    if not stat.S_ISDIR(status.st_mode):
        raise OSError(0, "something else than a folder stands there", path)
    return state_of(path, status, "")


def _is(state: FileState | None, other: FileState | None) -> bool:
    if state is None or other is None:
        return state is other
    return (state.mode, state.uid, state.gid) == (other.mode, other.uid, other.gid)
