"""Lock files: check them, and refresh one aged entry with the old file kept."""

import os
from collections.abc import Sequence

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.cli.tasks.restoring import Desk, carried_through, exit_after
from fundamen.execution.home import kept_bytes
from fundamen.formats.lock_file import LockFile, read_lock_file
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.report.contracts.locking import lock_record
from fundamen.report.repairing.lock_text import lock_text, refreshed_text
from fundamen.restore.for_lock import prepare_lock_entry
from fundamen.sources.artefacts import find_artefacts
from fundamen.sources.locks import CheckedPin, check_lock, refresh_entry
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
            what=say("cli.the-lock-file-cannot-be-read", path=printable(path)),
            why=say("cli.it-is-no-text-in-utf", error=error),
            do=say("cli.name-a-pylock-toml-a-package"),
        ) from error
    return text, read_lock_file(text, path)


def checked_lock(lock: LockFile, folders: Sequence[str], architecture: Architecture) -> tuple[CheckedPin, ...]:
    """Check a lock file against the files in some folders of this host."""
    for folder in folders:
        if not os.path.isdir(folder):
            raise UnreadableError(
                what=say("cli.the-files-in-cannot-be-looked", folder=printable(folder)),
                why=say("cli.it-is-no-folder"),
                do=say("cli.name-the-folder-in-which-the"),
            )
    artefacts = find_artefacts(HostPath(os.path.abspath(folder)) for folder in folders)
    return check_lock(lock, artefacts, Vouchers(options.home(), options.now()), architecture)


def refresh_lock(desk: Desk, path: MachinePath, name: str, folders: Sequence[str]) -> Exit:
    """Refresh one entry of a lock file after consent, and give the exit status.

    Raises:
        UntrustedError: no trusted source knows the file there.
        UsageError: there is no such entry, or it cannot be known which digest is meant.
    """
    machine, output = desk.machine, desk.output

    def look(text: str, lock: LockFile) -> tuple[str, LockFile, CheckedPin | None]:
        checked = checked_lock(lock, folders, options.this_architecture())
        return text, lock, next((each for each in checked if each.entry.name == name), None)

    text, lock, entry = look(*read_lock(machine, path))
    if entry is None:
        raise UsageError(
            what=say("cli.the-entry-is-not-refreshed", name=printable(name)),
            why=say("cli.pins-no-package-of-this-name", path=printable(path)),
            do=say("cli.see-what-it-pins-fundamen-locks", path=printable(path)),
        )
    prepared = prepare_lock_entry(
        machine,
        path,
        entry,
        refresh_entry(text, entry).encode(),
        lambda data: kept_bytes(options.home(), data),
        lambda machine: look(*read_lock(machine, path))[2],
    )
    question = f"{entry.detail}.\nRefresh the entry?"
    restoration, _ = carried_through(desk, prepared, lambda: desk.consent.ask(output, question))
    if output.as_json:
        output.show_record(lock_record(path, lock, (entry,), restoration.number))
    else:
        output.show(refreshed_text(entry, machine, restoration.number, drawn=output.drawn))
    return exit_after(restoration)


def show_lock(path: str, lock: LockFile, checked: tuple[CheckedPin, ...], output: Output) -> Exit:
    """Show what was found of a lock file, and give the exit status."""
    if output.as_json:
        output.show_record(lock_record(path, lock, checked))
    else:
        output.show(lock_text(path, lock, checked, drawn=output.drawn))
    return Exit.FAULT_FOUND if any(each.is_at_fault for each in checked) else Exit.NOTHING_AT_FAULT
