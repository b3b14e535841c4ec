"""Carry a rehearsed plan out, and take restorations back.

Guarantees: what a step replaces is kept and flushed, and the journal knows of it, before the step's target is touched;
whatever stops a restoration half-way, the journal holds enough to make every file as it was, to the byte, with its
mode, owner, times and extended attributes.
"""

import contextlib
import os
import shutil
from collections.abc import Callable, Iterator
from datetime import datetime

import msgspec

from fundamen.machine.machine import Machine
from fundamen.model.errors import FundamenError, RestorationError, UnfinishedError, UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.restore.journal import OURS, SOMEBODY_ELSES, Entry, Journal, State, Step, StepRecord, StepState
from fundamen.restore.placing import FileState, copy_flushed, digest_of_file, flush_folder, put, read_state, remove
from fundamen.restore.plan import PlaceFile
from fundamen.restore.rehearsal import Rehearsal

_NEW_FILE, _NEW_PROGRAM = 0o644, 0o755  # modes
_SPARE_BYTES = 1 << 20  # for folders and the journal itself

Progress = Callable[[MachinePath], None]


@contextlib.contextmanager
def alone_on(machine: Machine) -> Iterator[None]:
    """Keep every other Fundamen of this host from changing the machine meanwhile.

    Raises:
        UnfinishedError: another one is at work, or an earlier restoration was cut off.
    """
    import fcntl  # noqa: PLC0415 - not on every platform, and needed only for a change

    handle = os.open(machine.root, os.O_RDONLY)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise UnfinishedError(
                what=f"{machine.title} cannot be changed now",
                why="another Fundamen is changing it at this moment",
                do="Wait until it has ended, then try again.",
            ) from error
        yield
    finally:
        os.close(handle)


def require_ready(machine: Machine, journal: Journal) -> None:
    """Make sure that a restoration could begin now. Raises: as ``alone_on`` and ``require_finished``."""
    with alone_on(machine):
        require_finished(machine, journal)


def require_finished(machine: Machine, journal: Journal) -> None:
    """Make sure that no earlier restoration of the machine was cut off.

    Raises:
        UnfinishedError: one was.
    """
    entry = journal.unfinished()
    if entry is not None:
        count = len(entry.steps)
        raise UnfinishedError(
            what=f"Restoration {entry.number} of {machine.title} is not finished",
            why=f"it was cut off while {entry.state}, after {count} step{'' if count == 1 else 's'} had begun;"
            " each file is either old or new, and whole",
            do=f"Take it back first: fundamen undo {entry.number}",
        )


def carry_out(
    machine: Machine, rehearsal: Rehearsal, journal: Journal, now: datetime, progress: Progress = lambda _path: None
) -> int:
    """Do what was rehearsed, and give the restoration's number in the journal.

    The caller holds the machine with ``alone_on`` and has asked ``require_finished``.

    Raises:
        RestorationError: a step failed; all steps were taken back. Also when there is too little room.
    """
    plan = rehearsal.plan
    targets = [(step, _target(machine, step)) for step in plan.steps]
    _require_room(journal, targets)
    titles = tuple(f"{package.title} from {source.name}" for source, package in plan.packages)
    try:
        number = journal.begin(plan.program, titles, now)
    except (OSError, UnreadableError) as error:
        raise RestorationError(
            what="The restoration was not begun",
            why=f"its journal cannot be written: {_cause(error)}",
            do="Nothing was changed. Make Fundamen's own folder writable, then restore again.",
        ) from error
    try:
        for index, (step, target) in enumerate(targets):
            progress(step.path)
            _carry_out_step(journal, number, index, step, target, rehearsal.contents[step.file.sha256])
        journal.mark(number, State.DONE)
    except (OSError, KeyboardInterrupt, UnreadableError) as error:
        raise _taken_back(journal, number, error) from error
    return number


def undo(journal: Journal, number: int | None) -> Entry:
    """Take a restoration back: every file as it was before; also one that was cut off.

    Args:
        journal: the machine's journal.
        number: which restoration; None for the latest that stands.

    Raises:
        UsageError: there is no such restoration, or a later one stands on it.
        RestorationError: a file has changed since, or cannot be written.
    """
    entry = _chosen(journal, number)
    conflicts = [path for step in entry.steps if (path := _conflict(step)) is not None]
    if conflicts:
        raise RestorationError(
            what=f"Restoration {entry.number} cannot be undone",
            why=f"{shown(conflicts[0])} has changed since: it is neither as before nor as restored",
            do="Nothing was changed. Set that file aside under another name, then undo again.",
        )
    if entry.state is not State.UNDOING:
        entry = _with_folders_settled(journal, entry)
        journal.mark(entry.number, State.UNDOING)
    try:
        _take_back(journal, entry)
    except OSError as error:
        raise RestorationError(
            what=f"Restoration {entry.number} is undone only in part",
            why=f"{shown(str(error.filename))}: {error.strerror}",
            do=f"The originals are kept. Mend that, then: fundamen undo {entry.number}",
        ) from error
    journal.mark(entry.number, State.UNDONE)
    shutil.rmtree(journal.kept_folder(entry.number), ignore_errors=True)
    return entry


def _carry_out_step(
    journal: Journal, number: int, index: int, step: PlaceFile, target: HostPath, content: HostPath
) -> None:
    record = _keep_original(journal, number, index, step, target)
    journal.write_step(number, index, StepState.KEPT, record)
    for folder in record.new_folders:
        os.mkdir(folder)
        flush_folder(os.path.dirname(folder))
    put(content, target, HostPath(record.staged), step.file.sha256, _state_for(record, executable=step.file.executable))
    done = msgspec.structs.replace(record, folder_after_ns=os.stat(_standing_folder(record)).st_mtime_ns)
    journal.write_step(number, index, StepState.PLACED, done)


def _keep_original(journal: Journal, number: int, index: int, step: PlaceFile, target: HostPath) -> StepRecord:
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
        after_sha256=step.file.sha256,
        new_folders=new_folders,
        folder_modified_ns=standing.st_mtime_ns,
        folder_accessed_ns=standing.st_atime_ns,
    )


def _state_for(record: StepRecord, *, executable: bool) -> FileState:
    """What the new file gets besides its bytes: the original's mode, owner and attributes, or those of a new file."""
    if record.before is not None:
        return msgspec.structs.replace(record.before, modified_ns=-1)
    folder = os.stat(os.path.dirname(record.target))
    mode = _NEW_PROGRAM if executable else _NEW_FILE
    is_administrator = os.geteuid() == 0  # only then may the file be given to the folder's owner
    uid, gid = (folder.st_uid, folder.st_gid) if is_administrator else (os.geteuid(), os.getegid())
    return FileState(0, "", mode, uid, gid, -1, -1)


def _target(machine: Machine, step: PlaceFile) -> HostPath:
    return machine.host_path(step.path)


def _folders_to_make(target: HostPath) -> tuple[str, ...]:
    folders: list[str] = []
    folder = os.path.dirname(target)
    while not os.path.isdir(folder):
        folders.insert(0, folder)
        folder = os.path.dirname(folder)
    return tuple(folders)


def _standing_folder(record: StepRecord) -> str:
    """The nearest folder of the target that was there before the step."""
    return os.path.dirname(record.new_folders[0] if record.new_folders else record.target)


def _require_room(journal: Journal, targets: list[tuple[PlaceFile, HostPath]]) -> None:
    """Look that there is room before anything is changed: for the new files, and for what is kept."""
    needed: dict[int, tuple[str, int]] = {}

    def add(folder: str, size: int) -> None:
        while not os.path.isdir(folder):
            folder = os.path.dirname(folder)
        device = os.stat(folder).st_dev
        needed[device] = (folder, needed.get(device, ("", _SPARE_BYTES))[1] + size)

    for step, target in targets:
        add(os.path.dirname(target), step.file.size)
        add(journal.folder, os.path.getsize(target) if os.path.isfile(target) else 0)
    for folder, size in needed.values():
        free = shutil.disk_usage(folder).free
        if free < size:
            raise RestorationError(
                what="The restoration was not begun",
                why=f"{shown(folder)} has {free >> 20} MiB free, and {(size >> 20) + 1} MiB are needed",
                do="Nothing was changed. Make room, then restore again.",
            )


# Taking back.


def _chosen(journal: Journal, number: int | None) -> Entry:
    entries = journal.entries()
    standing = [entry for entry in entries if entry.state in {State.DONE, State.UNDER_WAY, State.UNDOING}]
    if number is None and standing:
        return standing[-1]
    chosen = next((entry for entry in entries if entry.number == number), None)
    if chosen is None or chosen not in standing:
        why = f"it is {chosen.state} already" if chosen else "the journal of this machine has none to undo"
        raise UsageError(
            what=f"Restoration {number if number is not None else ''} cannot be undone".replace("  ", " "),
            why=why,
            do="See what was done with: fundamen history",
        )
    touched = {step.record.target for step in chosen.steps}
    for later in standing:
        if later.number > chosen.number and touched & {step.record.target for step in later.steps}:
            raise UsageError(
                what=f"Restoration {chosen.number} cannot be undone yet",
                why=f"restoration {later.number} has changed the same files since",
                do=f"Undo that one first: fundamen undo {later.number}",
            )
    return chosen


def _conflict(step: Step) -> MachinePath | None:
    """The step's path, if what stands there now is neither the original nor what we placed."""
    record = step.record
    if step.state is StepState.TAKEN_BACK:
        return None
    try:
        found = digest_of_file(record.target) if os.path.lexists(record.target) else None
    except OSError:
        return record.path
    expected = {record.after_sha256, record.before.sha256 if record.before else None}
    return None if found in expected else record.path


def _with_folders_settled(journal: Journal, entry: Entry) -> Entry:
    """Find out, before anything is taken back, which folders nobody else has changed since: they get their times back.

    Written down at once, since the answer is lost with the first change. After a restoration that was cut off it cannot
    be told, and the folders count as ours.
    """
    last_ns = {_standing_folder(step.record): step.record.folder_after_ns for step in entry.steps}
    steps = []
    for step in entry.steps:
        folder = _standing_folder(step.record)
        ours = entry.state is not State.DONE or last_ns[folder] in {OURS, os.stat(folder).st_mtime_ns}
        record = msgspec.structs.replace(step.record, folder_after_ns=OURS if ours else SOMEBODY_ELSES)
        journal.write_step(entry.number, step.number, step.state, record)
        steps.append(Step(step.number, step.state, record))
    return msgspec.structs.replace(entry, steps=tuple(steps))


def _take_back(journal: Journal, entry: Entry) -> None:
    """Make every file of a restoration as it was, the last step first. Raises: OSError."""
    for step in reversed(entry.steps):
        if step.state is StepState.TAKEN_BACK:
            continue
        _take_back_step(step.record)
        journal.write_step(entry.number, step.number, StepState.TAKEN_BACK, step.record)


def _take_back_step(record: StepRecord) -> None:
    remove(HostPath(record.staged))
    target = HostPath(record.target)
    if record.before is None:
        remove(target)
    else:
        put(HostPath(record.kept), target, HostPath(record.staged), record.before.sha256, record.before)
    for folder in reversed(record.new_folders):
        with contextlib.suppress(OSError):  # somebody else has put something in it meanwhile, or it was never made
            os.rmdir(folder)
    if record.folder_after_ns != SOMEBODY_ELSES:
        with contextlib.suppress(PermissionError):  # a folder that we may write to, but do not own
            os.utime(_standing_folder(record), ns=(record.folder_accessed_ns, record.folder_modified_ns))


def _taken_back(journal: Journal, number: int, error: BaseException) -> FundamenError:
    """Take a failed restoration back, and say how that went."""
    cause = _cause(error)
    entry = next(entry for entry in journal.entries() if entry.number == number)
    try:
        _take_back(journal, entry)
        journal.mark(number, State.TAKEN_BACK)
    except (OSError, KeyboardInterrupt, UnreadableError) as second:
        return UnfinishedError(
            what=f"Restoration {number} failed and could not be taken back at once",
            why=f"{cause}; then {_cause(second)}",
            do=f"The originals are kept. Mend that, then: fundamen undo {number}",
        )
    shutil.rmtree(journal.kept_folder(number), ignore_errors=True)
    return RestorationError(
        what="The restoration failed and was taken back",
        why=cause,
        do="Every file is as it was before. Mend that, then restore again.",
    )


def _cause(error: BaseException) -> str:
    if isinstance(error, KeyboardInterrupt):
        return "it was stopped from the keyboard"
    if isinstance(error, OSError):
        return f"{shown(str(error.filename or 'the machine'))}: {error.strerror}"
    return error.why if isinstance(error, FundamenError) else str(error)
