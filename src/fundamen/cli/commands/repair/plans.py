"""``fundamen plans`` and its commands."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.helping import CommandGroup
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.directory_login import password_option
from fundamen.cli.tasks.media import Named, media_options
from fundamen.cli.tasks.plans import carry_out_plan, opened_plan
from fundamen.cli.tasks.restoring import Consent, Desk
from fundamen.execution.home import journal_of
from fundamen.execution.locking import require_ready
from fundamen.machine.machine import Machine
from fundamen.report.contracts.restoring import plan_record
from fundamen.report.repairing.plan_text import plan_file_text

if TYPE_CHECKING:
    from fundamen.changes.base import Password


@click.group("plans", cls=CommandGroup)
def command() -> None:
    """Show, rehearse or run a plan that a file holds, made here or on a machine like it.

    A plan is written by --save-plan of restore, prereqs, toolchain and authority, or by hand (docs/formats/plan.md).
    Each step says what it expects to find; where that is not so, nothing is changed.

    \b
    fundamen restore --rehearse --save-plan tidebook.plan /opt/tidebook/bin/tidebook
    fundamen plans show tidebook.plan
    fundamen plans run tidebook.plan
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


@command.command("show", short_help="Show the steps of a plan.")
@click.argument("plan", metavar="PLAN")
@options.output_options
def show(plan: str, output: Output) -> None:
    """Show the steps of a PLAN as they stand in its file; no machine is looked at.

    \b
    fundamen plans show tidebook.plan
    """  # noqa: D301
    with output:
        read = opened_plan(plan)
        if output.as_json:
            output.show_record(plan_record(read))
        else:
            output.show(plan_file_text(read, plan, drawn=output.drawn))


@command.command("rehearse", short_help="Show what a plan would do on a machine.")
@click.argument("plan", metavar="PLAN")
@click.option("--no-archive", is_flag=True, help="Do not ask the operating system's own archive for files.")
@media_options
@options.machine_options
@options.output_options
def rehearse(plan: str, *, no_archive: bool, media: Named, machine: Callable[[], Machine], output: Output) -> None:
    """Show what a PLAN would do on this machine, and how its programs would stand then; nothing is changed.

    \b
    fundamen plans rehearse tidebook.plan --machine /mnt/disk
    """  # noqa: D301
    with output:
        examined = machine()
        desk = Desk(examined, journal_of(examined, options.home()), output, Consent(only_rehearse=True, yes=False))
        status = carry_out_plan(desk, plan, "", media, archive=not no_archive)
    finish(status)


@command.command("run", short_help="Carry a plan out, after it was rehearsed.")
@click.argument("plan", metavar="PLAN")
@click.option("--yes", is_flag=True, help="Carry it out without asking.")
@click.option("--waiting", default="", metavar="PROCESS", help="An installer that waits: say whether it may continue.")
@click.option("--no-archive", is_flag=True, help="Do not ask the operating system's own archive for files.")
@password_option
@media_options
@options.machine_options
@options.output_options
def run(
    plan: str,
    *,
    yes: bool,
    waiting: str,
    no_archive: bool,
    password: "Password",
    media: Named,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Rehearse a PLAN, ask, and perform it; 'fundamen undo' takes all of it back.

    A plan names the source of each file. Where that was an installation medium, name the medium again.

    \b
    fundamen plans run tidebook.plan
    fundamen plans run tidebook.plan --media saltgrass.iso --media-digest '3f2a ...'
    """  # noqa: D301
    with output:
        examined = machine()
        journal = journal_of(examined, options.home(), password)
        require_ready(examined, journal)
        desk = Desk(examined, journal, output, Consent(only_rehearse=False, yes=yes), password)
        status = carry_out_plan(desk, plan, waiting, media, archive=not no_archive)
    finish(status)
