"""``fundamen history``."""

from collections.abc import Callable
from datetime import timedelta

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish
from fundamen.execution import originals
from fundamen.execution.clean_up import choose_for_good, find_kept, let_stand
from fundamen.execution.home import journal_of
from fundamen.execution.journal import Journal
from fundamen.machine.machine import Machine
from fundamen.report.contracts.restoring import HistoryRecord, entry_part
from fundamen.report.repairing.restore_text import clean_up_text, history_text


@click.command("history", cls=Subcommand)
@click.option("--take-in", is_flag=True, help="Adopt kept originals whose journal is lost, so that they can be undone.")
@click.option("--clean", is_flag=True, help="Delete kept originals that are not needed any more.")
@click.option(
    "--older-than",
    cls=OnlyWith,
    only_with=("--clean",),
    type=click.FloatRange(0),
    default=90.0,
    show_default=True,
    metavar="DAYS",
    help="With --clean: of restorations older than so many days.",
)
@click.option(
    "--most",
    cls=OnlyWith,
    only_with=("--clean",),
    type=click.IntRange(0),
    metavar="MIB",
    help="With --clean: the oldest, until at most so much is left.",
)
@click.option("--yes", cls=OnlyWith, only_with=("--clean",), is_flag=True, help="Delete them without asking.")
@options.machine_options
@options.output_options
def command(
    *,
    take_in: bool,
    clean: bool,
    older_than: float,
    most: int | None,
    yes: bool,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """List what was restored on a machine, the newest first, and whether a restoration is unfinished.

    Replaced files are kept until you delete them with --clean; those of the newest restoration always stay.

    \b
    fundamen history
    fundamen history --machine /mnt/disk --json
    fundamen history --clean --older-than 30
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        examined = machine()
        journal = journal_of(examined, options.home())
        if take_in:
            numbers = originals.take_in(examined, journal)
            output.note(f"Taken in: {', '.join(map(str, numbers)) or 'nothing'}.")
        if clean:
            _clean(examined, journal, output, timedelta(days=older_than), most, yes=yes)
        kept = find_kept(journal)
        entries = journal.entries()
        lost = originals.without_journal(journal)
        if output.as_json:
            size = sum(each.size for each in kept)
            output.show_record(HistoryRecord(tuple(entry_part(entry) for entry in entries), size, len(lost)))
        else:
            output.show(history_text(entries, kept, lost, examined, drawn=output.drawn))
        unfinished = any(entry.is_unfinished for entry in entries)
    finish(Exit.UNFINISHED if unfinished else Exit.NOTHING_AT_FAULT)


def _clean(
    machine: Machine, journal: Journal, output: Output, older_than: timedelta, most: int | None, *, yes: bool
) -> None:
    chosen = choose_for_good(find_kept(journal), options.now(), older_than, None if most is None else most << 20)
    if chosen and not output.as_json:
        output.show(clean_up_text(chosen, drawn=output.drawn))
    if not chosen:
        output.note("There is nothing to delete.")
    elif yes or output.ask_consent("\nDelete these originals?"):
        let_stand(machine, journal, chosen)
