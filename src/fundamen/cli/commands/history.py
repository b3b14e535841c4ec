"""``fundamen history``."""

from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output, finish
from fundamen.machine.machine import Machine
from fundamen.report.contracts.restoring import HistoryRecord, entry_part
from fundamen.report.restore_text import history_text
from fundamen.restore.home import journal_of


@click.command("history")
@options.machine_options
@options.output_options
def command(machine: Callable[[], Machine], output: Output) -> None:
    """List what was restored on a machine, the newest first, and whether any of it is unfinished.

    \b
    fundamen history
    fundamen history --machine /mnt/disk --json
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        examined = machine()
        entries = journal_of(examined, options.home()).entries()
        if output.as_json:
            output.show_record(HistoryRecord(tuple(entry_part(entry) for entry in entries)))
        else:
            output.show(history_text(entries, examined, drawn=output.drawn))
        unfinished = any(entry.is_unfinished for entry in entries)
    finish(Exit.UNFINISHED if unfinished else Exit.NOTHING_AT_FAULT)
