"""``fundamen references`` and its commands."""

import os
from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import CommandGroup
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.reference import compare_folder, restore_from
from fundamen.cli.tasks.restoring import Consent, Desk
from fundamen.execution.home import journal_of
from fundamen.execution.locking import require_ready
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.model.paths import HostPath
from fundamen.report.contracts.comparing import comparison_record, references_record
from fundamen.report.repairing.reference_text import comparison_text, references_text
from fundamen.sources.reference import References


@click.group("references", cls=CommandGroup)
def command() -> None:
    """Record what a clean folder holds; later compare with it, and bring back what has vanished or differs.

    A reference is what the clean folder held when it was recorded. It says whether the examined folder is at fault, or
    the clean one has changed since.

    \b
    fundamen references record charts /srv/clean/charts
    fundamen references compare charts /opt/charts
    fundamen references restore charts /opt/charts
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


@command.command("list", short_help="List the recorded references.")
@options.output_options
def list_(output: Output) -> None:
    """List the recorded references: where each lies, how many files it has, when it was recorded.

    \b
    fundamen references list
    """  # noqa: D301
    with output:
        found = References(options.home()).all()
        if output.as_json:
            output.show_record(references_record(found))
        else:
            output.show(references_text(found, drawn=output.drawn))


@command.command("record", short_help="Record what a clean folder holds.")
@click.argument("name")
@click.argument("folder")
@click.option("--leave-out", multiple=True, metavar="PATTERN", help="Paths that are not looked at, as 'cache/*'.")
@click.option("--as-machine", is_flag=True, help="FOLDER is the root of a clean machine; offer its files for needs.")
@options.output_options
def record(name: str, folder: str, *, leave_out: tuple[str, ...], as_machine: bool, output: Output) -> None:
    """Record what the clean FOLDER holds as the reference NAME.

    \b
    fundamen references record charts /srv/clean/charts --leave-out '*.pyc'
    fundamen references record office /srv/clean/office --as-machine
    """  # noqa: D301
    with output:
        with output.say_working(f"Recording {folder}"):
            location = HostPath(os.path.abspath(folder))
            platform = open_machine(location).platform if as_machine else None
            baseline = References(options.home()).record(name, location, leave_out, options.now(), platform)
        output.note(f"Recorded: {name}; {location} holds {len(baseline.entries)} files and links.")


@command.command("compare", short_help="Compare a folder with a reference.")
@click.argument("name")
@click.argument("folder")
@options.machine_options
@options.output_options
def compare(name: str, folder: str, machine: Callable[[], Machine], output: Output) -> None:
    """Compare FOLDER with the reference NAME: what has vanished, differs or is extra, and which side is at fault.

    \b
    fundamen references compare charts /opt/charts
    """  # noqa: D301
    with output:
        examined = machine()
        path = examined.absolute_path(folder)
        comparison = compare_folder(name, examined.host_path(path), output)
        if output.as_json:
            output.show_record(comparison_record(comparison))
        else:
            output.show(comparison_text(comparison, examined, path, drawn=output.drawn, is_first=True))
    finish(Exit.FAULT_FOUND if comparison.at_fault else Exit.NOTHING_AT_FAULT)


@command.command("restore", short_help="Bring back what has vanished or differs.")
@click.argument("name")
@click.argument("folder")
@click.option("--rehearse", "only_rehearse", is_flag=True, help="Show what would be done; change nothing.")
@click.option("--yes", is_flag=True, help="Carry it out without asking.")
@options.machine_options
@options.output_options
def restore(
    name: str, folder: str, *, only_rehearse: bool, yes: bool, machine: Callable[[], Machine], output: Output
) -> None:
    """Bring back into FOLDER what has vanished from it or differs from the reference NAME; nothing else is touched.

    \b
    fundamen references restore charts /opt/charts --rehearse
    """  # noqa: D301
    with output:
        examined = machine()
        journal = journal_of(examined, options.home())
        require_ready(examined, journal)
        status = restore_from(Desk(examined, journal, output, Consent(only_rehearse, yes)), folder, name)
    finish(status)
