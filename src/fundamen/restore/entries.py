"""The step that puts a file or link in a place: what is kept beforehand, how it is made and taken back."""

import os
import stat
from collections.abc import Sequence

import msgspec

from fundamen.machine.places import Place
from fundamen.model.paths import HostPath
from fundamen.placing.calls import move, name_also
from fundamen.placing.file_state import FileState, digest_of_file, read_state, stands_as
from fundamen.placing.flushing import flush_all
from fundamen.placing.own_files import write_whole
from fundamen.placing.replacing import keep_copy, name_of_ours, put, remove, require_digest, stage, swap
from fundamen.restore.folders import Around, owner_in
from fundamen.restore.insertions import Insertion, without
from fundamen.restore.records import LOCATIONS, EntryRecord, Site
from fundamen.restore.side_by_side import side_by_side
from fundamen.restore.steps import Change, Owner

_NEW_FILE, _NEW_PROGRAM, _NEW_LINK = 0o644, 0o755, 0o777  # modes


def keep(step: Change, site: Site, target: Place, content: HostPath, kept: HostPath, place: Around) -> EntryRecord:
    """Keep what stands at a target, and write down what is to stand there; nothing on the machine is changed.

    The copy is not on the disk until ``settle_kept``.

    Args:
        step: what is to be done.
        site: where.
        target: its place.
        content: our copy of the new bytes.
        kept: where the original would be kept.
        place: what is around the target.

    Raises:
        OSError: what stands there cannot be kept, or is no file and no link.
    """
    before = read_state(target)
    written, keeps_inode = "", False
    if before is not None and not before.link:
        keeps_inode = target.status().st_nlink > 1
        written = site.location(target.beside(name_of_ours("kept-"))) if keeps_inode else site.as_kept(kept)
        if not keeps_inode:
            keep_copy(target, kept)
    return EntryRecord(
        path=step.path,
        target=site.location(target),
        staged=site.location(target.beside(name_of_ours())),
        kept=written,
        before=before,
        after=_state_after(step, before, place),
        content="" if step.link else content,
        insertion=step.insertion,
        keeps_inode=keeps_inode,
        new_folders=place.missing,
        folders=(place.nearest,),
        form=LOCATIONS,
    )


def settle_kept(records: Sequence[EntryRecord], site: Site) -> None:
    """Have the kept originals on the disk, and see that they are such. Raises: OSError."""
    kept = [r for r in records if r.kept and not r.keeps_inode and r.before is not None]
    _settle([(site.kept(r.kept), r.before) for r in kept if r.before is not None])


def stage_entries(records: Sequence[EntryRecord], site: Site) -> None:
    """Write the new entries beside their places, in folders that are there. Raises: OSError."""
    side_by_side(lambda record: _stage(record, site), records, lambda record: record.after.size)


def _stage(record: EntryRecord, site: Site) -> None:
    if record.keeps_inode and not (kept := site.place(record.kept)).is_there:
        name_also(site.place(record.target), kept)
        kept.folder.flush()  # a power cut must not leave the swap without it
    stage(HostPath(record.content), site.place(record.staged), record.after)


def settle_entries(records: Sequence[EntryRecord], site: Site) -> None:
    """Have what was staged on the disk, and see that it is what it should be. Raises: OSError."""
    _settle([(site.place(record.staged), record.after) for record in records if not record.after.link])


def make_entry(record: EntryRecord, site: Site) -> None:
    """Put it in its place; the folder is not flushed yet. Raises: OSError: also where something stands there by now."""
    target = site.place(record.target)
    if record.before is None and target.is_there:
        raise FileExistsError(17, "something stands there by now", target.host)
    swap(site.place(record.staged), target)


def is_made(record: EntryRecord, site: Site) -> bool:
    """Whether the new entry stands in its place, with its mode. Raises: OSError."""
    target = site.place(record.target)
    if not stands_as(target, record.after):
        return False
    return bool(record.after.link) or stat.S_IMODE(target.status().st_mode) == record.after.mode


def obstacle(record: EntryRecord, site: Site) -> str:
    """Why it can be neither made nor taken back; empty where it can. Raises: OSError."""
    if not is_kept(record, site):
        return "the original that was kept of it is gone or was altered"
    return "it is neither as before nor as restored" if is_changed(record, site) else ""


def is_changed(record: EntryRecord, site: Site) -> bool:
    """Whether what stands there is neither the original nor what was placed. Raises: OSError."""
    target = site.place(record.target)
    if record.insertion is not None and target.is_file:
        return False  # others may write there as well: what was put in is taken out of whatever stands there now
    return target.is_there and not stands_as(target, record.after) and not stands_as(target, record.before)


def is_kept(record: EntryRecord, site: Site) -> bool:
    """Whether the kept original is still what it was. Raises: OSError."""
    if not record.kept or record.before is None or stands_as(site.place(record.target), record.before):
        return True
    if record.keeps_inode:
        return stands_as(site.place(record.kept), record.before)
    kept = site.kept(record.kept)
    return os.path.isfile(kept) and digest_of_file(kept) == record.before.sha256


def has_original(record: EntryRecord, site: Site) -> bool:
    """Whether what stands in the place is kept, so that the step may be made. Raises: OSError."""
    if not record.kept or record.keeps_inode:  # a second name is given to it as it is staged
        return True
    return os.path.isfile(site.kept(record.kept))


def take_back_entry(record: EntryRecord, site: Site) -> None:
    """Make the place as it was before. Raises: OSError."""
    target, staged = site.place(record.target), site.place(record.staged)
    remove(staged)
    if record.before is None:
        remove(target)
    elif record.before == read_state(target):
        remove(site.place(record.kept) if record.keeps_inode else staged)  # it was never touched
    elif record.keeps_inode:
        _bring_back_inode(site.place(record.kept), target)
    elif record.insertion is not None and not (is_made(record, site) or stands_as(target, record.before)):
        _take_out(record, record.insertion, site)
    else:
        put(site.kept(record.kept), target, staged, record.before)


def _settle(files: Sequence[tuple[HostPath | Place, FileState]]) -> None:
    flush_all(path for path, _ in files)
    side_by_side(lambda file: require_digest(file[0], file[1].sha256), files, lambda file: file[1].size)


def _bring_back_inode(kept: Place, target: Place) -> None:
    if kept.is_there:
        move(kept, target)  # does nothing where both are still names of the same file
        target.folder.flush()
        remove(kept)


def _take_out(record: EntryRecord, insertion: Insertion, site: Site) -> None:
    """Take what was put into a file out of it again; everything else that was written there since stays."""
    target = site.place(record.target)
    with target.reading() as file:
        data = file.read()
    left = without(data, insertion)
    state = read_state(target)
    if left == data or state is None:
        return
    ours = HostPath(f"{site.kept(record.kept)}-taken-out")
    write_whole(ours, left)
    state = msgspec.structs.replace(state, size=len(left), sha256=digest_of_file(ours), modified_ns=-1)
    put(ours, target, site.place(record.staged), state)


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
