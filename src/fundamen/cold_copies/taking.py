"""Take a cold copy of a folder: everything in it, compressed, read back and compared before it counts.

Guarantees: nothing in the folder is changed, not even access times where the system lets us; a copy that was
interrupted is none; while programs have files of the folder open, or change them, none is taken unless that is asked
for.
"""

import contextlib
import os
import shutil
from datetime import datetime

import msgspec

from fundamen.cold_copies.archive import Progress, find_damage, write_archive
from fundamen.cold_copies.entries import entries_below, is_text
from fundamen.cold_copies.manifest import ColdCopy, CopiedEntry, CopiedKind, SkippedEntry
from fundamen.cold_copies.store import CopyStore
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.open_files import find_users
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import RestorationError, UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.flushing import flush_folder, make_lasting

_SPARE_BYTES = 16 << 20
_MOST_ENTRIES = 2_000_000
_MOST_USERS = 3


class FolderEntry(msgspec.Struct, frozen=True):
    """An entry of a folder, before any of it is read."""

    folder: MachinePath
    place: Place
    entries: tuple[CopiedEntry, ...]  # without digests
    left_out: tuple[SkippedEntry, ...]

    @property
    def size(self) -> int:
        """How many bytes its files have."""
        return sum(entry.state.size for entry in self.entries if not entry.same_as)


def look_through(machine: Machine, folder: MachinePath) -> FolderEntry:
    """Find all that lies in a folder; links are not followed, and other file systems not entered.

    Raises:
        UsageError: it is no folder, or has more entries than any copy takes.
        UnreadableError: a part of it cannot be read.
    """
    real = machine.real(folder)
    if machine.look(real).kind is not EntryKind.FOLDER or not is_text(real):
        raise UsageError(
            what=say("cold_copies.no-cold-copy-of-can-be", folder=printable(folder)),
            why=say("cold_copies.it-is-no-folder-of-this")
            if is_text(real)
            else say("cold_copies.its-name-is-no-valid-text"),
            do=say("cold_copies.name-the-folder-to-copy"),
        )
    place = machine.place(real)
    left_out: list[SkippedEntry] = []
    entries = []
    try:
        for entry in entries_below(place, left_out):
            entries.append(entry)
            if len(entries) > _MOST_ENTRIES:
                raise UsageError(
                    what=say("cold_copies.no-cold-copy-of-can-be", folder=printable(folder)),
                    why=say("cold_copies.it-has-more-than-entries", most_entries=_MOST_ENTRIES),
                    do=say("cold_copies.name-the-folders-in-it-one"),
                )
    except OSError as error:
        raise _unreadable(folder, error) from error
    return FolderEntry(real, place, tuple(entries), tuple(left_out))


def require_unused(found: FolderEntry) -> None:
    """Make sure that no program has a file of a folder open. Raises: UsageError: one has."""
    files = (found.place.below(e.path).host for e in found.entries if e.kind is CopiedKind.FILE)
    users = find_users(files)
    if users:
        shown = ", ".join(
            say("cold_copies.process", name=user.name, pid=user.pid, more=f", {user.service}" if user.service else "")
            for user in users[:_MOST_USERS]
        )
        services = list(dict.fromkeys(user.service for user in users if user.service))
        end = say("cold_copies.systemctl-stop", services=" ".join(services)) if services else "end it"
        raise UsageError(
            what=say("cold_copies.no-cold-copy-of-is-taken", folder=printable(found.folder)),
            why=say("cold_copies.files-of-it-are-open", users=shown, more=" ..." if len(users) > _MOST_USERS else ""),
            do=say("cold_copies.first-or-copy-the-present-content", end=end),
        )


def take_copy(
    machine: Machine,
    found: FolderEntry,
    store: CopyStore,
    now: datetime,
    because: str,
    progress: Progress,
    *,
    force: bool,
) -> ColdCopy:
    """Take a copy of what was found, and read it back.

    Args:
        machine: whose folder it is.
        found: what lies in it.
        store: where the copy is to lie.
        now: this moment.
        because: why it is taken, for people.
        progress: is informed of bytes, twice: as they are read, and as they are read back.
        force: whether it is taken although programs have files of it open or change them.

    Raises:
        UsageError: programs have files open, or it lies inside what is copied.
        RestorationError: there is too little room, a file was changed meanwhile, or what was read back is not the same.
        UnreadableError: a part of it cannot be read.
    """
    if not force:
        require_unused(found)
    _require_room(found, store)
    try:
        number = store.next_number()
        archive = store.archive_of(number)
        with contextlib.suppress(FileNotFoundError):
            os.unlink(archive)  # of a copy that was interrupted: it has no list
        try:
            entries, unquiet, sha256, size = write_archive(archive, found.place, found.entries, progress)
            copy = ColdCopy(
                number=number,
                machine=machine.title,
                folder=found.folder,
                taken_at=now,
                because=because,
                entries=tuple(entries),
                left_out=found.left_out,
                unquiet=tuple(unquiet),
                archive_sha256=sha256,
                archive_size=size,
            )
            _require_whole(found, copy, archive, progress, force=force)
            flush_folder(store.folder)
            store.add(copy)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(archive)
            raise
    except OSError as error:
        raise _unreadable(found.folder, error) from error
    return copy


def _require_room(found: FolderEntry, store: CopyStore) -> None:
    make_lasting(store.folder)
    if os.path.realpath(store.folder).startswith(os.path.join(os.path.realpath(found.place.host), "")):
        raise UsageError(
            what=say("cold_copies.no-cold-copy-of-is-taken", folder=printable(found.folder)),
            why=say("cold_copies.the-copy-itself-would-lie-in", folder=printable(store.folder)),
            do=say("cold_copies.name-a-folder-in-it-or"),
        )
    free, needed = shutil.disk_usage(store.folder).free, found.size + _SPARE_BYTES
    if free < needed:
        raise _refusal(
            found,
            say(
                "cold_copies.has-mib-free-and-up-to",
                folder=printable(store.folder),
                free=free >> 20,
                needed=(needed >> 20) + 1,
            ),
            say("cold_copies.make-room-there-or-set-fundamen"),
        )


def _require_whole(found: FolderEntry, copy: ColdCopy, archive: HostPath, progress: Progress, *, force: bool) -> None:
    if copy.unquiet and not force:
        raise _refusal(
            found,
            say("cold_copies.was-changed-while-it-was-read", unquiet=printable(copy.unquiet[0])),
            say("cold_copies.see-what-writes-there"),
        )
    if why := find_damage(archive, copy, progress):
        raise _refusal(found, say("cold_copies.read-back", why=why), say("cold_copies.see-that-the-disk-of-fundamen"))


def _refusal(found: FolderEntry, why: str, do: str) -> RestorationError:
    return RestorationError(
        what=say("cold_copies.no-cold-copy-of-was-taken", folder=printable(found.folder)),
        why=why,
        do=say("cold_copies.then-try-again", do=do),
    )


def _unreadable(folder: MachinePath, error: OSError) -> UnreadableError:
    return UnreadableError(
        what=say("cold_copies.no-cold-copy-of-was-taken", folder=printable(folder)),
        why=f"{printable(str(error.filename or 'the system says'))}: {error.strerror or error}",
        do=say("cold_copies.nothing-is-left-of-it-mend"),
    )
