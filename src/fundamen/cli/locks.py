"""Lock files: check them, and refresh one aged entry with the old file kept."""

import hashlib
import os
from collections.abc import Sequence

from fundamen.changes.base import Work
from fundamen.changes.files import Change
from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.execution.carrying_out import carry_out
from fundamen.execution.home import kept_bytes
from fundamen.execution.journal import Journal
from fundamen.execution.locking import alone_on, require_finished
from fundamen.formats.lock_file import LockFile, read_lock_file
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.report.contracts.locking import lock_record
from fundamen.report.lock_text import lock_text, refreshed_text
from fundamen.sources.artefacts import find_artefacts
from fundamen.sources.locks import Checked, check_lock, refreshed
from fundamen.sources.vouching import Vouchers

_MOST_TEXT = 64 << 20  # bytes


def read_lock(machine: Machine, path: MachinePath) -> tuple[str, LockFile]:
    """A lock file's text, and what it pins.

    Raises:
        UnreadableError: it cannot be read, or is none.
    """
    data = machine.content(path, _MOST_TEXT)
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise UnreadableError(
            what=f"The lock file {shown(path)} cannot be read",
            why=f"it is no text in UTF-8: {error}",
            do="Name a pylock.toml, a package-lock.json, or a requirements file with hashes.",
        ) from error
    return text, read_lock_file(text, path)


def checked_lock(lock: LockFile, folders: Sequence[str], architecture: Architecture) -> tuple[Checked, ...]:
    """Check a lock file against the files in some folders of this host."""
    for folder in folders:
        if not os.path.isdir(folder):
            raise UnreadableError(
                what=f"The files in {shown(folder)} cannot be looked at",
                why="it is no folder",
                do="Name the folder in which the wheels, archives or tarballs lie: --artefacts FOLDER",
            )
    artefacts = find_artefacts(HostPath(os.path.abspath(folder)) for folder in folders)
    return check_lock(lock, artefacts, Vouchers(options.home(), options.now()), architecture)


def refresh_entry(
    machine: Machine,
    path: MachinePath,
    name: str,
    folders: Sequence[str],
    journal: Journal,
    output: Output,
    *,
    only_rehearse: bool,
    yes: bool,
) -> Exit:
    """Refresh one entry of a lock file after consent, and give the exit status.

    Raises:
        UntrustedError: nobody vouches for what lies there.
        UsageError: there is no such entry, or it cannot be told which digest is meant.
    """
    text, lock = read_lock(machine, path)
    checked = checked_lock(lock, folders, options.this_architecture())
    entry = next((each for each in checked if each.entry.name == name), None)
    if entry is None:
        raise UsageError(
            what=f"The entry {shown(name)} is not refreshed",
            why=f"{shown(path)} pins no package of this name",
            do=f"See what it pins: fundamen sources locked {shown(path)} --artefacts FOLDER",
        )
    data = refreshed(text, entry).encode()
    number = None
    if not only_rehearse and (yes or output.agreed(f"{entry.detail}.\nRefresh the entry?")):
        digest = hashlib.sha256(data).hexdigest()
        change = Change(path=machine.real(path), because="an entry has aged", sha256=digest, size=len(data))
        work = Work(path, (f"the entry {name}, refreshed",), (change,), {digest: kept_bytes(options.home(), data)})
        with alone_on(machine):
            require_finished(machine, journal)
            number = carry_out(machine, work, journal, options.now())
    if output.as_json:
        output.show_record(lock_record(path, lock, (entry,), number))
    else:
        output.show(refreshed_text(entry, machine, number, drawn=output.drawn))
    return Exit.NOTHING_AT_FAULT if number is not None else Exit.FAULT_FOUND


def show_lock(path: str, lock: LockFile, checked: tuple[Checked, ...], output: Output) -> Exit:
    """Show what was found of a lock file, and give the exit status."""
    if output.as_json:
        output.show_record(lock_record(path, lock, checked))
    else:
        output.show(lock_text(path, lock, checked, drawn=output.drawn))
    return Exit.FAULT_FOUND if any(each.is_at_fault for each in checked) else Exit.NOTHING_AT_FAULT
