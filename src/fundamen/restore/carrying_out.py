"""Carry a rehearsed plan out.

Guarantees: what a step replaces is kept and flushed, and the journal knows of it, before the step's target is touched;
whatever stops a restoration half-way, the journal holds enough to make every file as it was, to the byte, with its
mode, owner, times and extended attributes.
"""

import os
import shutil
from collections.abc import Callable
from datetime import datetime

import msgspec

from fundamen.machine.machine import Machine
from fundamen.model.errors import FundamenError, RestorationError, UnfinishedError, UnreadableError
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.placing.file_state import FileState, read_state
from fundamen.placing.replacing import copy_flushed, flush_folder, put, put_link
from fundamen.restore.journal import Journal, State, StepRecord, StepState
from fundamen.restore.steps import Change, Work
from fundamen.restore.taking_back import cause_of, standing_folder, take_back_steps

_NEW_FILE, _NEW_PROGRAM = 0o644, 0o755  # modes
_SPARE_BYTES = 1 << 20  # for folders and the journal itself

Progress = Callable[[MachinePath], None]


def carry_out(
    machine: Machine, work: Work, journal: Journal, now: datetime, progress: Progress = lambda _path: None
) -> int:
    """Do all steps of some work, and give the restoration's number in the journal.

    The caller holds the machine with ``alone_on`` and has asked ``require_finished``.

    Raises:
        RestorationError: a step failed; all steps were taken back. Also when there is too little room.
    """
    targets = [(step, _target(machine, step)) for step in work.steps]
    _require_room(journal, targets)
    try:
        number = journal.begin(work.program, work.titles, now)
    except (OSError, UnreadableError) as error:
        raise RestorationError(
            what="The restoration was not begun",
            why=f"its journal cannot be written: {cause_of(error)}",
            do="Nothing was changed. Make Fundamen's own folder writable, then restore again.",
        ) from error
    try:
        for index, (step, target) in enumerate(targets):
            progress(step.path)
            _carry_out_step(journal, number, index, step, target, work.contents.get(step.sha256))
        journal.mark(number, State.DONE)
    except (OSError, KeyboardInterrupt, UnreadableError) as error:
        raise _taken_back(journal, number, error) from error
    return number


def _carry_out_step(
    journal: Journal, number: int, index: int, step: Change, target: HostPath, content: HostPath | None
) -> None:
    record = _keep_original(journal, number, index, step, target)
    journal.write_step(number, index, StepState.KEPT, record)
    for folder in record.new_folders:
        os.mkdir(folder)
        flush_folder(os.path.dirname(folder))
    if step.link:
        put_link(step.link, target, HostPath(record.staged))
    else:
        assert content is not None  # noqa: S101 - every file's content was fetched for the rehearsal
        put(content, target, HostPath(record.staged), step.sha256, _state_for(record, step))
    done = msgspec.structs.replace(record, folder_after_ns=os.stat(standing_folder(record)).st_mtime_ns)
    journal.write_step(number, index, StepState.PLACED, done)


def _keep_original(journal: Journal, number: int, index: int, step: Change, target: HostPath) -> StepRecord:
    before = read_state(target)
    kept = ""
    if before is not None:
        folder = journal.kept_folder(number)
        os.makedirs(folder, mode=0o700, exist_ok=True)
        kept = os.path.join(folder, str(index))
        copy_flushed(target, HostPath(kept), before.sha256)
        flush_folder(folder)
    new_folders = _folders_to_make(target)
    standing = os.stat(os.path.dirname(new_folders[0] if new_folders else target))
    return StepRecord(
        path=step.path,
        target=target,
        staged=os.path.join(os.path.dirname(target), f".fundamen-{number}-{index}"),
        kept=kept,
        before=before,
        after_sha256=step.sha256,
        link=step.link,
        insertion=step.insertion,
        new_folders=new_folders,
        folder_modified_ns=standing.st_mtime_ns,
        folder_accessed_ns=standing.st_atime_ns,
    )


def _state_for(record: StepRecord, step: Change) -> FileState:
    """What the new file gets besides its bytes: the original's mode, owner and attributes, or those of a new file."""
    if record.before is not None:
        mode = record.before.mode if step.keeps_mode or step.mode is None else step.mode
        return msgspec.structs.replace(record.before, mode=mode, modified_ns=-1)
    folder = os.stat(os.path.dirname(record.target))
    mode = step.mode if step.mode is not None else _NEW_PROGRAM if step.executable else _NEW_FILE
    is_administrator = os.geteuid() == 0  # only then may the file be given to the folder's owner
    uid, gid = (folder.st_uid, folder.st_gid) if is_administrator else (os.geteuid(), os.getegid())
    return FileState(0, "", mode, uid, gid, -1, -1)


def _target(machine: Machine, step: Change) -> HostPath:
    return HostPath(step.host) if step.host else machine.host_path(step.path)


def _folders_to_make(target: HostPath) -> tuple[str, ...]:
    folders: list[str] = []
    folder = os.path.dirname(target)
    while not os.path.isdir(folder):
        folders.insert(0, folder)
        folder = os.path.dirname(folder)
    return tuple(folders)


def _require_room(journal: Journal, targets: list[tuple[Change, HostPath]]) -> None:
    """Look that there is room before anything is changed: for the new files, and for what is kept."""
    needed: dict[int, tuple[str, int]] = {}

    def add(folder: str, size: int) -> None:
        while not os.path.isdir(folder):
            folder = os.path.dirname(folder)
        device = os.stat(folder).st_dev
        needed[device] = (folder, needed.get(device, ("", _SPARE_BYTES))[1] + size)

    for step, target in targets:
        add(os.path.dirname(target), step.size)
        add(journal.folder, os.path.getsize(target) if os.path.isfile(target) else 0)
    for folder, size in needed.values():
        free = shutil.disk_usage(folder).free
        if free < size:
            raise RestorationError(
                what="The restoration was not begun",
                why=f"{shown(folder)} has {free >> 20} MiB free, and {(size >> 20) + 1} MiB are needed",
                do="Nothing was changed. Make room, then restore again.",
            )


def _taken_back(journal: Journal, number: int, error: BaseException) -> FundamenError:
    """Take a failed restoration back, and say how that went."""
    cause = cause_of(error)
    entry = next(entry for entry in journal.entries() if entry.number == number)
    try:
        take_back_steps(journal, entry)
        journal.mark(number, State.TAKEN_BACK)
    except (OSError, KeyboardInterrupt, UnreadableError) as second:
        return UnfinishedError(
            what=f"Restoration {number} failed and could not be taken back at once",
            why=f"{cause}; then {cause_of(second)}",
            do=f"The originals are kept. Mend that, then: fundamen undo {number}",
        )
    shutil.rmtree(journal.kept_folder(number), ignore_errors=True)
    return RestorationError(
        what="The restoration failed and was taken back",
        why=cause,
        do="Every file is as it was before. Mend that, then restore again.",
    )
