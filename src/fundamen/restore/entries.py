"""The step that puts a file or link in a place: what is kept beforehand, how it is made and taken back."""

import os
import stat
from collections.abc import Sequence

import msgspec

from fundamen.model.paths import HostPath
from fundamen.placing.file_state import FileState, digest_of_file, read_state, stands_as
from fundamen.placing.flushing import flush_all, flush_folder
from fundamen.placing.replacing import OURS, keep_copy, put, remove, require_digest, stage, swap
from fundamen.restore.folders import Around, owner_in
from fundamen.restore.insertions import Insertion, without
from fundamen.restore.records import EntryRecord
from fundamen.restore.side_by_side import side_by_side
from fundamen.restore.steps import Change, Owner
from fundamen.sources.writing import write_whole

_NEW_FILE, _NEW_PROGRAM, _NEW_LINK = 0o644, 0o755, 0o777  # modes


def keep(
    step: Change, target: HostPath, content: HostPath, name: str, kept_folder: HostPath, place: Around
) -> EntryRecord:
    """Keep what stands at a target, and write down what is to stand there; nothing on the machine is changed.

    The copy is not on the disk until ``settle_kept``.

    Args:
        step: what is to be done.
        target: where.
        content: our copy of the new bytes.
        name: the step's own, within this journal.
        kept_folder: where originals are kept.
        place: what is around the target.

    Raises:
        OSError: what stands there cannot be kept, or is no file and no link.
    """
    before = read_state(target)
    beside = os.path.dirname(target)
    kept, keeps_inode = "", False
    if before is not None and not before.link:
        keeps_inode = os.lstat(target).st_nlink > 1
        kept = os.path.join(beside, f"{OURS}kept-{name}") if keeps_inode else os.path.join(kept_folder, name)
        if not keeps_inode:
            keep_copy(target, HostPath(kept))
    return EntryRecord(
        path=step.path,
        target=target,
        staged=os.path.join(beside, f"{OURS}{name}"),
        kept=kept,
        before=before,
        after=_state_after(step, before, place),
        content="" if step.link else content,
        insertion=step.insertion,
        keeps_inode=keeps_inode,
        new_folders=place.missing,
        folders=(place.nearest,),
    )


def settle_kept(records: Sequence[EntryRecord]) -> None:
    """Have the kept originals on the disk, and see that they are such. Raises: OSError."""
    _settle([(r.kept, r.before) for r in records if r.kept and not r.keeps_inode and r.before is not None])


def stage_entries(records: Sequence[EntryRecord]) -> None:
    """Write the new entries beside their places, in folders that are there. Raises: OSError."""
    side_by_side(_stage, records, lambda record: record.after.size)


def _stage(record: EntryRecord) -> None:
    if record.keeps_inode and not os.path.lexists(record.kept):
        os.link(record.target, record.kept)
        flush_folder(os.path.dirname(record.kept))  # a power cut must not leave the swap without it
    stage(HostPath(record.content), HostPath(record.staged), record.after)


def settle_entries(records: Sequence[EntryRecord]) -> None:
    """Have what was staged on the disk, and see that it is what it should be. Raises: OSError."""
    _settle([(record.staged, record.after) for record in records if not record.after.link])


def make_entry(record: EntryRecord) -> None:
    """Put it in its place; the folder is not flushed yet. Raises: OSError: also where something stands there by now."""
    if record.before is None and os.path.lexists(record.target):
        raise FileExistsError(17, "something stands there by now", record.target)
    swap(HostPath(record.staged), HostPath(record.target))


def is_made(record: EntryRecord) -> bool:
    """Whether the new entry stands in its place, with its mode. Raises: OSError."""
    if not stands_as(HostPath(record.target), record.after):
        return False
    return bool(record.after.link) or stat.S_IMODE(os.lstat(record.target).st_mode) == record.after.mode


def obstacle(record: EntryRecord) -> str:
    """Why it can be neither made nor taken back; empty where it can. Raises: OSError."""
    if not is_kept(record):
        return "the original that was kept of it is gone or was altered"
    return "it is neither as before nor as restored" if is_changed(record) else ""


def is_changed(record: EntryRecord) -> bool:
    """Whether what stands there is neither the original nor what was placed. Raises: OSError."""
    target = HostPath(record.target)
    if record.insertion is not None and os.path.isfile(target):
        return False  # others may write there as well: what was put in is taken out of whatever stands there now
    if not os.path.lexists(target):
        return False
    return not stands_as(target, record.after) and not stands_as(target, record.before)


def is_kept(record: EntryRecord) -> bool:
    """Whether the kept original is still what it was. Raises: OSError."""
    if not record.kept or record.before is None or stands_as(HostPath(record.target), record.before):
        return True
    return os.path.isfile(record.kept) and digest_of_file(record.kept) == record.before.sha256


def has_original(record: EntryRecord) -> bool:
    """Whether what stands in the place is kept, so that the step may be made. Raises: OSError."""
    if not record.kept or record.keeps_inode:  # a second name is given to it as it is staged
        return True
    return os.path.isfile(record.kept)


def take_back_entry(record: EntryRecord) -> None:
    """Make the place as it was before. Raises: OSError."""
    target, staged = HostPath(record.target), HostPath(record.staged)
    remove(staged)
    if record.before is None:
        remove(target)
    elif record.before == read_state(target):
        remove(HostPath(record.kept if record.keeps_inode else staged))  # it was never touched
    elif record.keeps_inode:
        _bring_back_inode(HostPath(record.kept), target)
    elif record.insertion is not None and not (is_made(record) or stands_as(target, record.before)):
        _take_out(record, record.insertion)
    else:
        put(HostPath(record.kept), target, staged, record.before)


def _settle(files: Sequence[tuple[str, FileState]]) -> None:
    flush_all(HostPath(path) for path, _ in files)
    side_by_side(lambda file: require_digest(HostPath(file[0]), file[1].sha256), files, lambda file: file[1].size)


def _bring_back_inode(kept: HostPath, target: HostPath) -> None:
    if os.path.lexists(kept):
        os.rename(kept, target)  # does nothing where both are still names of the same file
        flush_folder(os.path.dirname(target))
        remove(kept)


def _take_out(record: EntryRecord, insertion: Insertion) -> None:
    """Take what was put into a file out of it again; everything else that was written there since stays."""
    target = HostPath(record.target)
    with open(target, "rb") as file:
        data = file.read()
    left = without(data, insertion)
    state = read_state(target)
    if left == data or state is None:
        return
    ours = HostPath(f"{record.kept}-taken-out")
    write_whole(ours, left)
    state = msgspec.structs.replace(state, size=len(left), sha256=digest_of_file(ours), modified_ns=-1)
    put(ours, target, HostPath(record.staged), state)


def _state_after(step: Change, before: FileState | None, folder: Around) -> FileState:
    """What is to stand there: besides the bytes the original's mode, owner and attributes, or those of a new file."""
    if step.state is not None:
        return step.state
    if before is not None and not before.link and not step.link:
        mode = before.mode if step.keeps_mode or step.mode is None else step.mode
        return msgspec.structs.replace(before, size=step.size, sha256=step.sha256, mode=mode, modified_ns=-1)
    mode = step.mode if step.mode is not None else _NEW_PROGRAM if step.executable else _NEW_FILE
    uid, gid = owner_in(folder, step.owner.uid, step.owner.gid)
    if step.owner not in {Owner(), Owner(uid, gid)}:
        mode &= 0o1777  # nothing is run in the name of somebody who was not meant
    sha256 = "" if step.link else step.sha256
    return FileState(step.size, sha256, _NEW_LINK if step.link else mode, uid, gid, -1, -1, link=step.link)
