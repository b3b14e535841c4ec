"""The originals that a journal keeps: they lie in a folder with its identity, beside a list of what they are.

Guarantee: a journal deletes only originals of its own. Those whose journal is gone, moved away or damaged, can be
taken into another one by their list, and undone from there.
"""

import contextlib
import json
import os
import shutil
from collections.abc import Iterator, Sequence
from datetime import datetime

import msgspec

from fundamen.changes.base import Record
from fundamen.changes.kinds import decode_record
from fundamen.execution.journal import STANDING, Journal, JournalEntry, RestorationRecord, encode_record
from fundamen.execution.locking import alone_on, require_finished
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.encoding import to_plain
from fundamen.model.errors import UnreadableError
from fundamen.placing.flushing import make_lasting
from fundamen.placing.own_files import remove_own, write_whole

_LIST = "originals.json"
_FORMAT = 1
_LARGEST = 256 << 20  # bytes


class Originals(msgspec.Struct, frozen=True):
    """The contents of a folder of originals."""

    folder: str
    begun: datetime
    restoration: RestorationRecord
    steps: tuple[Record, ...]


class _List(msgspec.Struct, frozen=True):
    begun: datetime
    restoration: RestorationRecord
    steps: tuple[dict[str, object], ...]
    format: int = _FORMAT


def write_list(folder: str, begun: datetime, restoration: RestorationRecord, steps: Sequence[Record]) -> None:
    """Write down what the originals in a folder are, before anything on the machine is changed. Raises: OSError."""
    records = tuple(to_plain(step) for step in steps)
    write_whole(os.path.join(folder, _LIST), encode_record(_List(begun, restoration, records)).encode())


def without_journal(journal: Journal) -> tuple[Originals, ...]:
    """Originals of restorations that are not in the journal, the oldest first. Raises: UnreadableError."""
    used = {str(journal.kept_folder(entry.number)) for entry in journal.entries(STANDING)}
    found = [_read(journal, folder) for folder in _all_folders(journal) if folder not in used]
    return tuple(sorted((each for each in found if each is not None), key=lambda each: each.begun))


def take_in(machine: Machine, journal: Journal) -> tuple[int, ...]:
    """Take originals whose journal is gone into this one, and give their new numbers: they can be undone from there.

    Raises:
        UnfinishedError: another Fundamen is at work, or a restoration was interrupted.
        UnreadableError: the journal, or a list, cannot be read.
    """
    with alone_on(machine):
        require_finished(machine, journal)
        return tuple(_taken_in(journal, each) for each in without_journal(journal))


def _taken_in(journal: Journal, originals: Originals) -> int:
    """Write it down, and its list where this journal has its own; the originals stay where its records say."""
    folder = journal.kept_folder(journal.next_number())
    make_lasting(folder)
    write_list(folder, originals.begun, originals.restoration, originals.steps)
    number = journal.take_in(originals.restoration, originals.begun, originals.steps)
    remove_own(os.path.join(originals.folder, _LIST))
    return number


def give_up(journal: Journal, entry: JournalEntry) -> None:
    """Remove the originals of a restoration that needs them no more: those that its own records name, and no others."""
    for folder in {*_folders(journal, entry), str(journal.kept_folder(entry.number))}:
        shutil.rmtree(folder, ignore_errors=True)


def size_of(journal: Journal, entry: JournalEntry) -> int:
    """Size of the originals in bytes, including those kept in the target's folder."""
    size = sum(step.record.kept_beside() for step in entry.steps)
    for top in {*_folders(journal, entry), str(journal.kept_folder(entry.number))}:
        for folder, _, names in os.walk(top):
            size += sum(os.lstat(os.path.join(folder, name)).st_size for name in names if name != _LIST)
    return size


def _folders(journal: Journal, entry: JournalEntry) -> set[str]:
    """The folders below that of the journal in which the originals of a restoration lie."""
    top = os.path.join(journal.folder, "kept") + os.sep
    folders = {os.path.dirname(step.record.kept_at(journal.site)) for step in entry.steps}
    return {folder for folder in folders if os.path.normpath(folder).startswith(top)}


def _all_folders(journal: Journal) -> Iterator[str]:
    top = os.path.join(journal.folder, "kept")
    with contextlib.suppress(FileNotFoundError, NotADirectoryError):
        for identity in sorted(os.listdir(top)):
            for number in sorted(os.listdir(os.path.join(top, identity))):
                folder = os.path.join(top, identity, number)
                if os.path.isfile(os.path.join(folder, _LIST)):
                    yield folder


def _read(journal: Journal, folder: str) -> Originals | None:
    path = os.path.join(folder, _LIST)
    try:
        with open(path, "rb") as file:
            data = file.read(_LARGEST)
        listed = msgspec.convert(json.loads(data), type=_List)
        steps = tuple(decode_record(dict(step), journal.site) for step in listed.steps)
    except (OSError, ValueError, msgspec.MsgspecError) as error:
        raise UnreadableError(
            what=say("execution.the-list-of-kept-originals-cannot"),
            why=f"{printable(path)}: {error}",
            do=say("execution.nothing-was-changed-keep-that-folder"),
        ) from error
    return Originals(folder, listed.begun, listed.restoration, steps)
