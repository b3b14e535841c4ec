"""Take a restoration back: every file as it was before, to the byte, with its mode, owner, times and attributes.

Guarantees: nothing is touched where a file has changed since; an undo that was cut off can be done again.
"""

import contextlib
import os
import shutil

import msgspec

from fundamen.model.errors import FundamenError, RestorationError, UnfinishedError, UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.placing.file_state import digest_of_file, read_state
from fundamen.placing.replacing import put, remove
from fundamen.restore.insertions import Insertion, without
from fundamen.restore.journal import OURS, SOMEBODY_ELSES, Entry, Journal, State, Step, StepRecord, StepState
from fundamen.sources.writing import write_whole


def undo(journal: Journal, number: int | None) -> Entry:
    """Take a restoration back: every file as it was before; also one that was cut off.

    Args:
        journal: the machine's journal.
        number: which restoration; None for the latest that stands.

    Raises:
        UsageError: there is no such restoration, or a later one stands on it.
        RestorationError: a file has changed since; nothing was undone.
        UnfinishedError: it was stopped half-way, or a file cannot be written; it can be undone again.
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
        take_back_steps(journal, entry)
        journal.mark(entry.number, State.UNDONE)
    except (OSError, KeyboardInterrupt, UnreadableError) as error:
        raise UnfinishedError(
            what=f"Restoration {entry.number} is undone only in part",
            why=cause_of(error),
            do=f"The originals are kept. Mend that, then: fundamen undo {entry.number}",
        ) from error
    shutil.rmtree(journal.kept_folder(entry.number), ignore_errors=True)
    return entry


def standing_folder(record: StepRecord) -> str:
    """The nearest folder of the target that was there before the step."""
    return os.path.dirname(record.new_folders[0] if record.new_folders else record.target)


def cause_of(error: BaseException) -> str:
    """What stopped a change, in words."""
    if isinstance(error, KeyboardInterrupt):
        return "it was stopped from the keyboard"
    if isinstance(error, OSError):
        return f"{shown(str(error.filename or 'the machine'))}: {error.strerror}"
    return error.why if isinstance(error, FundamenError) else str(error)


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
    if record.link:
        is_ours = os.path.islink(record.target) and os.readlink(record.target) == record.link
        return None if is_ours or not os.path.lexists(record.target) else record.path
    try:
        found = digest_of_file(record.target) if os.path.lexists(record.target) else None
    except OSError:
        return record.path
    expected = {record.after_sha256, record.before.sha256 if record.before else None}
    if found is not None and record.insertion is not None:
        return None  # others may write there as well: what was put in is taken out of whatever stands there now
    return None if found in expected else record.path


def _with_folders_settled(journal: Journal, entry: Entry) -> Entry:
    """Find out, before anything is taken back, which folders nobody else has changed since: they get their times back.

    Written down at once, since the answer is lost with the first change. After a restoration that was cut off it cannot
    be told, and the folders count as ours.
    """
    last_ns = {standing_folder(step.record): step.record.folder_after_ns for step in entry.steps}
    steps = []
    for step in entry.steps:
        folder = standing_folder(step.record)
        ours = entry.state is not State.DONE or last_ns[folder] in {OURS, os.stat(folder).st_mtime_ns}
        record = msgspec.structs.replace(step.record, folder_after_ns=OURS if ours else SOMEBODY_ELSES)
        journal.write_step(entry.number, step.number, step.state, record)
        steps.append(Step(step.number, step.state, record))
    return msgspec.structs.replace(entry, steps=tuple(steps))


def take_back_steps(journal: Journal, entry: Entry) -> None:
    """Make every file of a restoration as it was, the last step first. Raises: OSError."""
    for step in reversed(entry.steps):
        if step.state is StepState.TAKEN_BACK:
            continue
        _take_back_step(step.record)
        journal.write_step(entry.number, step.number, StepState.TAKEN_BACK, step.record)


def _take_out(record: StepRecord, insertion: Insertion) -> None:
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
    put(ours, target, HostPath(record.staged), digest_of_file(ours), msgspec.structs.replace(state, modified_ns=-1))


def _take_back_step(record: StepRecord) -> None:
    remove(HostPath(record.staged))
    target = HostPath(record.target)
    if record.before is None:
        remove(target)
    elif record.insertion is not None and digest_of_file(target) not in {record.after_sha256, record.before.sha256}:
        _take_out(record, record.insertion)
    else:
        put(HostPath(record.kept), target, HostPath(record.staged), record.before.sha256, record.before)
    for folder in reversed(record.new_folders):
        with contextlib.suppress(OSError):  # somebody else has put something in it meanwhile, or it was never made
            os.rmdir(folder)
    if record.folder_after_ns != SOMEBODY_ELSES:
        with contextlib.suppress(PermissionError):  # a folder that we may write to, but do not own
            os.utime(standing_folder(record), ns=(record.folder_accessed_ns, record.folder_modified_ns))
