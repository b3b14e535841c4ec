"""Cold copies: where they lie, taking and checking them, and bringing back."""

import os
from collections.abc import Sequence

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.cli.tasks.restoring import Desk, carried_through, exit_after
from fundamen.cold_copies.archive import find_damage
from fundamen.cold_copies.manifest import ColdCopy
from fundamen.cold_copies.store import CopyStore
from fundamen.cold_copies.taking import look_through, take_copy
from fundamen.execution.home import journal_of
from fundamen.execution.locking import require_ready
from fundamen.machine.machine import Machine
from fundamen.messages import Message
from fundamen.model.errors import FundamenError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import HostPath, MachinePath
from fundamen.report.contracts.restoring import restore_record
from fundamen.report.repairing.cold_copies_text import brought_back_text, rehearsal_text
from fundamen.restore.from_copy import prepare_copy


def store_of(machine: Machine) -> CopyStore:
    """Where the cold copies of a machine lie."""
    return CopyStore(HostPath(os.path.join(journal_of(machine, options.home()).folder, "cold-copies")))


def copy_folder(
    machine: Machine, folder: MachinePath, because: str, output: Output, *, force: bool = False
) -> ColdCopy:
    """Take a copy of a folder, with progress."""
    with output.say_working(f"Looking through {folder}"):
        found = look_through(machine, folder)
    with output.receive_bar(2 * found.size, f"{folder}, written and read back", "Copying") as progress:
        return take_copy(machine, found, store_of(machine), options.now(), because, progress, force=force)


def check_all(
    machine: Machine, numbers: Sequence[int], output: Output
) -> tuple[list[tuple[ColdCopy, Message]], list[FundamenError]]:
    """(each copy with why it is damaged, empty where it is whole; why others cannot be read at all)."""
    store = store_of(machine)
    results: list[tuple[ColdCopy, Message]] = []
    failed: list[FundamenError] = []
    for number in numbers or store.numbers():
        try:
            with Isolated(f"cold copy {number}"):
                copy = store.find(number)
                with output.receive_bar(copy.size, f"cold copy {number}", "Reading") as progress:
                    results.append((copy, find_damage(store.archive_of(number), copy, progress)))
        except FundamenError as error:
            if numbers:
                raise
            failed.append(error)
    return results, failed


def bring_back(desk: Desk, number: int, parts: Sequence[str], *, exactly: bool) -> Exit:
    """Bring back what a copy holds, after consent, and give the exit status."""
    machine, output, store = desk.machine, desk.output, store_of(desk.machine)
    require_ready(machine, desk.journal)
    contents = HostPath(os.path.join(options.home(), "content"))
    copy = store.find(number)
    with output.say_working(f"Comparing {copy.folder} with cold copy {number}"):
        planned = prepare_copy(machine, store, copy, parts, contents, exactly=exactly)
    if not output.as_json:
        only_rehearse = desk.consent.only_rehearse
        output.show(
            rehearsal_text(planned, machine, parts, drawn=output.drawn, exactly=exactly, only_rehearse=only_rehearse)
        )
    restoration, state = carried_through(desk, planned.prepared)
    if output.as_json:
        output.show_record(restore_record(restoration, state))
    elif restoration.number is not None:
        output.show("\n" + brought_back_text(copy, restoration, machine, drawn=output.drawn))
    return exit_after(restoration)
