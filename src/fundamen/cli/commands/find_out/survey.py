"""``fundamen survey``."""

from collections.abc import Callable, Iterator
from functools import partial
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.figure_writing import require_writable_figures, write_figures
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.authorities import authorities_at
from fundamen.cli.telling import SurveyProgress
from fundamen.execution.home import folder_of, journal_of
from fundamen.machine.machine import Machine
from fundamen.messages import Message, as_command, say
from fundamen.model.paths import HostPath
from fundamen.report.commands import change_command
from fundamen.report.commands import command as command_text
from fundamen.report.contracts.surveying import survey_record
from fundamen.report.examining.survey_text import survey_text
from fundamen.survey.remembered import Digests
from fundamen.survey.repair_stores import SpoiltCopy
from fundamen.survey.survey import Depth, Survey, SurveyMemory, survey_machine
from fundamen.survey.walking import usual_folders

if TYPE_CHECKING:
    from fundamen.cli.tasks.restoring import Consent
    from fundamen.report.drawing.charts import Figure

_MOST_NAMED = 20  # programs in a command to paste


@click.command("survey", cls=Subcommand)
@click.argument("folders", nargs=-1, metavar="[FOLDER]...")
@click.option(
    "--depth",
    type=click.Choice([str(depth) for depth in Depth]),
    default=str(Depth.NEEDS),
    show_default=True,
    help="needs: seconds; used: also the bytes of what is used, and what repairs are drawn from, a minute; "
    "all: of every installed file, minutes the first time.",
)
@click.option("--afresh", is_flag=True, help="Read every file again, also unchanged ones.")
@click.option("--restore", "restores", is_flag=True, help="Then repair the faults by one plan.")
@click.option(
    "--rehearse",
    cls=OnlyWith,
    only_with=("--restore",),
    is_flag=True,
    help="With --restore: show what would be done; change nothing.",
)
@click.option(
    "--yes", cls=OnlyWith, only_with=("--restore",), is_flag=True, help="With --restore: carry it out without asking."
)
@click.option("--write", "targets", multiple=True, metavar="FILE", help="Also draw it, as .html, .svg or .png.")
@options.machine_options
@options.output_options
def command(
    folders: tuple[str, ...],
    *,
    depth: str,
    afresh: bool,
    restores: bool,
    rehearse: bool,
    yes: bool,
    targets: tuple[str, ...],
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Check every program, library and script of a machine, and list the faults by their causes.

    The FOLDERs default to where the platform keeps programs. What was read is remembered, so the next survey reads only
    changed files; an interrupted one is continued.

    \b
    fundamen survey
    fundamen survey --machine /mnt/office --depth all --write office.html
    fundamen survey /opt --restore --rehearse
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    status = Exit.NOTHING_AT_FAULT
    with output:
        require_writable_figures(targets, "office.html")
        examined = machine()
        survey = _survey_machine(examined, folders, Depth(depth), output, afresh=afresh)
        write_figures(lambda: _figure(survey, examined.title), targets, output)
        following = _next(examined, folders, survey)
        if output.as_json:
            output.show_record(survey_record(examined.title, survey, following))
        else:
            output.show(survey_text(survey, () if restores else following, verbose=output.verbose, drawn=output.drawn))
        status = Exit.FAULT_FOUND if survey.faults else Exit.NOTHING_AT_FAULT
        for bug in survey.needs.bugs:
            output.tell(bug)
            status = exit_of(bug)
    if restores and survey.to_restore:
        from fundamen.cli.tasks.restoring import Consent  # noqa: PLC0415 - only where something is to be restored

        chosen = ("--depth", depth) if survey.depth is not Depth.NEEDS else ()
        again = change_command(examined, "survey", *folders, *chosen, "--restore", "--yes")
        with output:
            status = _restore(examined, survey, output, again, Consent(rehearse, yes))
    finish(status)


def _figure(survey: Survey, title: str) -> "Figure":
    from fundamen.report.drawing.figures import survey_figure  # noqa: PLC0415 - only where it is to be drawn

    return survey_figure(survey, title)


def _survey_machine(
    machine: Machine, folders: tuple[str, ...], depth: Depth, output: Output, *, afresh: bool
) -> Survey:
    home = options.home()
    digests = Digests(folder_of(machine, home))
    known = {} if afresh or depth is not Depth.ALL else digests.all()
    chosen = tuple(machine.absolute_path(folder) for folder in folders) or usual_folders(machine)
    with SurveyProgress(output) as telling, digests:
        try:
            return survey_machine(
                machine,
                chosen,
                depth,
                lambda: authorities_at(home, machine.platform, options.now(), output),
                SurveyMemory(known, digests.remember),
                options.now(),
                telling,
                partial(_own_copies, home),
            )
        except KeyboardInterrupt:
            click.echo(err=True)  # behind what the terminal shows of Ctrl-C
            output.note("The files that were read are remembered: the next survey continues from there.")
            raise


def _own_copies(home: HostPath) -> Iterator[SpoiltCopy]:
    from fundamen.sources.own_copies import find_damaged  # noqa: PLC0415 - only where repairs are looked into

    return (SpoiltCopy(path, why, say("cli.fundamen-sources-verify")) for path, why in find_damaged(home))


def _restore(machine: Machine, survey: Survey, output: Output, again: str, consent: "Consent") -> Exit:
    """One plan for all programs that cannot start, and libraries and packages at fault."""
    from fundamen.cli.tasks.faults import RepairRequest, restore_programs  # noqa: PLC0415 - only where something is to be restored
    from fundamen.cli.tasks.restoring import Desk  # noqa: PLC0415
    from fundamen.execution.locking import require_ready  # noqa: PLC0415

    if not output.as_json:
        output.show("\n")
    journal = journal_of(machine, options.home())
    require_ready(machine, journal)
    return restore_programs(
        Desk(machine, journal, output, consent), survey.to_restore, RepairRequest(follows=False, again=again)
    )


def _next(machine: Machine, folders: tuple[str, ...], survey: Survey) -> tuple[Message, ...]:
    steps: list[Message] = []
    altered = survey.contents.altered if survey.contents is not None else ()
    packages = list(dict.fromkeys(each.package for each in altered if not each.is_setting))
    by_archive = survey.contents is not None and bool(survey.contents.lists) and _has_archive(machine)
    if survey.needs.causes:
        steps.append(command_text(machine, "trace", survey.to_restore[0]))
    if survey.needs.causes or by_archive:
        depth = ("--depth", str(survey.depth)) if by_archive else ()
        steps.append(command_text(machine, "survey", *folders, *depth, "--restore", "--rehearse"))
    if packages and not by_archive:
        steps.append(as_command(f"apt-get install --reinstall {' '.join(packages[:_MOST_NAMED])}"))
    if survey.depth is Depth.NEEDS and not survey.faults:
        steps.append(command_text(machine, "survey", *folders, "--depth", "all"))
    return tuple(steps)


def _has_archive(machine: Machine) -> bool:
    from fundamen.sources.os_archive import OsArchive  # noqa: PLC0415 - only where packages are at fault

    return OsArchive.serves(machine)
