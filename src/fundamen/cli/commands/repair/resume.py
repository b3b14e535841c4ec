"""``fundamen resume``."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.stopping import stoppable
from fundamen.cli.tasks.directory_login import password_option
from fundamen.execution.home import journal_of
from fundamen.machine.machine import Machine
from fundamen.report.contracts.restoring import ResumeRecord, entry_part
from fundamen.report.repairing.restore_text import resumed_text
from fundamen.restore.restoration import go_on

if TYPE_CHECKING:
    from fundamen.changes.base import Password


@click.command("resume", cls=Subcommand)
@password_option
@options.machine_options
@options.output_options
def command(password: "Password", machine: Callable[[], Machine], output: Output) -> None:
    """Continue an interrupted restoration where it stopped.

    If one of its files has changed since, nothing is done, and the file is named. To undo it instead: fundamen undo.

    \b
    fundamen resume
    fundamen resume --machine /mnt/disk
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        examined = machine()
        journal = journal_of(examined, options.home(), password)
        unfinished = journal.cut_off()
        count = len(unfinished.steps) if unfinished is not None else 0
        with output.progress(count, "Restoring") as progress, stoppable(output) as stop:
            entry = go_on(examined, journal, progress, stop, output.note)
        if output.as_json:
            output.show_record(ResumeRecord(entry_part(entry)))
        else:
            output.show(resumed_text(entry, examined, drawn=output.drawn))
    finish(Exit.NOTHING_AT_FAULT)
