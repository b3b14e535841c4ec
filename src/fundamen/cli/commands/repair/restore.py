"""``fundamen restore``."""

import shlex
from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.faults import LAUNCH_SECONDS, Launching, RepairRequest, restore_programs
from fundamen.cli.tasks.media import Named, media_options
from fundamen.cli.tasks.pinning import read_pins
from fundamen.cli.tasks.restoring import Consent, Desk
from fundamen.execution.home import journal_of
from fundamen.execution.locking import require_ready
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.errors import UsageError
from fundamen.trace.lost import find_program_or_lost


@click.command("restore", cls=Subcommand)
@click.argument("programs", nargs=-1, required=True, metavar="PROGRAM...")
@click.option("--rehearse", "only_rehearse", is_flag=True, help="Show what would be done, and its result.")
@click.option("--yes", is_flag=True, help="Carry it out without asking.")
@click.option("--save-plan", metavar="FILE", help="Write the plan to FILE, for 'fundamen plans run'.")
@click.option("--also", multiple=True, metavar="PROGRAM", help="Another program that must keep everything it needs.")
@click.option("--install", multiple=True, metavar="PACKAGE", help="Have the system's package manager install it too.")
@click.option("--pin", multiple=True, metavar="PACKAGE==VERSION", help="Use this version, even an older one.")
@click.option(
    "--because",
    cls=OnlyWith,
    only_with=("--pin",),
    default="",
    metavar="TEXT",
    help="The reason for --pin; it is kept in the history.",
)
@click.option("--no-archive", is_flag=True, help="Do not ask the operating system's own archive.")
@click.option("--launch", is_flag=True, help="Run the first PROGRAM afterwards, as proof.")
@click.option("--launch-with", metavar="ARGUMENTS", help="The same, with arguments, written as for a shell.")
@click.option("--waiting", default="", metavar="PROCESS", help="An installer that waits: say whether it may continue.")
@click.option(
    "--launch-seconds",
    cls=OnlyWith,
    only_with=("--launch", "--launch-with"),
    type=click.FloatRange(0.1),
    default=LAUNCH_SECONDS,
    metavar="SECONDS",
    help="At most so long.",
)
@media_options
@options.machine_options
@options.output_options
def command(
    programs: tuple[str, ...],
    *,
    only_rehearse: bool,
    yes: bool,
    save_plan: str | None,
    also: tuple[str, ...],
    install: tuple[str, ...],
    pin: tuple[str, ...],
    because: str,
    no_archive: bool,
    launch: bool,
    launch_with: str | None,
    waiting: str,
    launch_seconds: float,
    media: Named,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Repair each PROGRAM: bring what it needs and lacks, as whole packages from trusted sources.

    The plan is rehearsed first, then you are asked; 'fundamen undo' takes all of it back.

    \b
    fundamen restore --rehearse /opt/tidebook/bin/tidebook
    fundamen restore --yes --launch-with '--today' /opt/tidebook/bin/tidebook
    fundamen restore -m /mnt/office --media saltgrass.iso --media-digest '3f2a ...' 'C:\\Tidebook\\tidebook.exe'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        pins = read_pins(pin, because)
        examined = machine()
        journal = journal_of(examined, options.home())
        require_ready(examined, journal)
        asked = RepairRequest(
            also=also,
            pins=pins,
            because=because,
            install=install,
            media=media,
            archive=not no_archive,
            save_plan=save_plan,
            launching=_parse_launch(launch_with, launch_seconds) if launch or launch_with is not None else None,
            settle_seconds=options.settle_seconds(),
            waiting=waiting,
        )
        found = [find_program_or_lost(examined, name) for name in programs]
        desk = Desk(examined, journal, output, Consent(only_rehearse, yes))
        status = restore_programs(desk, list(dict.fromkeys(found)), asked)
    finish(status)


def _parse_launch(arguments: str | None, seconds: float) -> Launching:
    try:
        return Launching(tuple(shlex.split(arguments or "")), seconds)
    except ValueError as error:
        raise UsageError(
            what=say("cli.the-program-cannot-be-run-with"),
            why=say("cli.they-are-not-written-as-for", error=error),
            do=say("cli.write-them-as-for-example-launch"),
        ) from error
