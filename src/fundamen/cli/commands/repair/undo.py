"""``fundamen undo``."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.directory_login import password_option
from fundamen.execution.home import journal_of
from fundamen.machine.machine import Machine
from fundamen.report.contracts.restoring import UndoRecord, entry_part
from fundamen.report.repairing.restore_text import undo_text
from fundamen.restore.restoration import take_back

if TYPE_CHECKING:
    from fundamen.changes.base import Password


@click.command("undo", cls=Subcommand)
@click.argument("number", type=options.NUMBER, required=False)
@password_option
@options.machine_options
@options.output_options
def command(number: int | None, password: "Password", machine: Callable[[], Machine], output: Output) -> None:
    """Undo restoration NUMBER, or the latest: every file becomes what it was, with mode, owner, times and attributes.

    If a restored file has changed since, nothing is undone, and the file is named.

    \b
    fundamen undo
    fundamen undo 3 --machine /mnt/disk
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        examined = machine()
        entry = take_back(examined, journal_of(examined, options.home(), password), number)
        if output.as_json:
            output.show_record(UndoRecord(entry_part(entry)))
        else:
            output.show(undo_text(entry, examined, drawn=output.drawn))
    finish(Exit.NOTHING_AT_FAULT)
