"""``fundamen capture``."""

import hashlib
import os
import platform
from collections.abc import Callable

import click
import msgspec

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish, require_free
from fundamen.cli.tasks.authorities import authorities_at
from fundamen.cli.tasks.licences import accepted_digests
from fundamen.cli.telling import SurveyProgress
from fundamen.formats.capture_file import MOST_CONTENT, CaptureManifest, write_capture
from fundamen.formats.gathered import read_gathered
from fundamen.machine.file_bytes import open_ordinary
from fundamen.machine.gathered import SCRIPTS, GatheredMachine, gathering_script
from fundamen.machine.machine import Machine
from fundamen.machine.programs import find_program
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import written_whole
from fundamen.prerequisites.comparison import amount_of
from fundamen.prerequisites.requirement import CheckContext
from fundamen.prerequisites.sheet import read_sheet
from fundamen.report.contracts.machines import capture_record
from fundamen.report.examining.capture_text import capture_text
from fundamen.survey.capturing import Taken, Wish, take_capture


def _show_script(context: click.Context, _parameter: click.Parameter, language: str | None) -> None:
    """Print the script that gathers on machines without Python, and end."""
    if language is not None and not context.resilient_parsing:
        script = gathering_script(language)
        click.echo(script, nl=False)
        click.echo(f"SHA-256 of the script: {hashlib.sha256(script.encode()).hexdigest()}", err=True)
        context.exit()


@click.command("capture", cls=Subcommand)
@click.argument("target", metavar="FILE")
@click.argument("programs", nargs=-1, metavar="[PROGRAM]...")
@click.option("--name", default="", help="The name of the machine in the capture; default: this host's.")
@click.option("--sheet", "sheets", multiple=True, metavar="SHEET", help="Add the answers to this requirement sheet.")
@click.option("--all", "whole", is_flag=True, help="The whole machine: every program that a survey checks.")
@click.option("--symbols", is_flag=True, help="Also what 'trace --symbols' needs: much more of each file.")
@click.option("--most", default="512M", show_default=True, metavar="SIZE", help="At most so many bytes of files.")
@click.option(
    "--from", "gathered", metavar="GATHERED", help="Make it from the output of the script that --script prints."
)
@click.option(
    "--script",
    type=click.Choice(list(SCRIPTS)),
    is_flag=False,
    flag_value="shell",
    is_eager=True,
    expose_value=False,
    callback=_show_script,
    help="Print the script for machines without Python: shell or powershell.",
)
@click.option("--yes", is_flag=True, help="Write it without asking.")
@options.machine_options
@options.output_options
def command(
    target: str,
    programs: tuple[str, ...],
    *,
    name: str,
    sheets: tuple[str, ...],
    whole: bool,
    symbols: bool,
    most: str,
    gathered: str | None,
    yes: bool,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Save a machine's facts in FILE, to be examined elsewhere: name FILE as the --machine there.

    What FILE would hold is shown, and you are asked. On a machine without Python run the script that --script prints.

    \b
    fundamen capture office.capture /opt/tidebook/bin/tidebook
    fundamen capture office.capture --all
    sh gather.sh --all >office.gathered; fundamen capture office.capture --from office.gathered
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    status = Exit.NOTHING_AT_FAULT
    with output:
        most_bytes = amount_of(most)
        examined = _open_gathering(gathered) if gathered else machine()
        if isinstance(examined, GatheredMachine):
            if whole and not examined.is_whole:
                why = "the script gathered of programs, and not of the whole machine"
                raise UsageError(say("cli.no-capture-is-made"), why, say("cli.leave-all-out-or-have-the"))
            whole = whole or (examined.is_whole and not programs)
            programs, name = programs or examined.programs, name or examined.host
        _require_sense(target, programs, sheets, most_bytes, whole=whole)
        wish = Wish(
            programs=tuple(find_program(examined, program) for program in programs),
            sheets=tuple(read_sheet(HostPath(sheet)) for sheet in sheets),
            whole=whole,
            symbols=symbols,
            most_bytes=int(most_bytes or 0),
        )
        asked = CheckContext(machine=examined, now=options.now(), is_accepted=accepted_digests().__contains__)
        authorities = authorities_at(options.home(), examined.platform, options.now(), output)
        with SurveyProgress(output) as telling:
            taken = take_capture(examined, wish, authorities, asked, options.now(), telling)
        taken = _rename_taken(taken, name or (platform.node() if examined.is_live else ""))
        if not output.as_json:
            output.show(capture_text(taken.manifest, verbose=output.verbose, drawn=output.drawn))
        if yes or output.ask_consent(f"Write it to {printable(target)}?"):
            manifest = _write(target, taken)
            output.note(f"Written: {target}, {os.path.getsize(target) >> 10} KiB.")
            if output.as_json:
                output.show_record(capture_record(target, manifest))
        else:
            output.note("Nothing was written.")
            status = Exit.FAULT_FOUND
    finish(status)


def _open_gathering(path: str) -> GatheredMachine:
    """The machine of what was gathered in a file. Raises: UnreadableError."""
    try:
        with open_ordinary(path) as file:
            return GatheredMachine(read_gathered(file, path), HostPath(os.path.abspath(path)))
    except OSError as error:
        raise UnreadableError(
            what=say("cli.cannot-be-read", path=printable(path)),
            why=error.strerror or str(error),
            do=say("cli.name-what-the-script-of-script"),
        ) from error


def _rename_taken(taken: Taken, name: str) -> Taken:
    """The same under another name of the machine."""
    if not name:
        return taken
    summary = msgspec.structs.replace(taken.summary, machine=name) if taken.summary is not None else None
    manifest = msgspec.structs.replace(taken.manifest, machine=name)
    return msgspec.structs.replace(taken, manifest=manifest, summary=summary)


def _require_sense(
    target: str, programs: tuple[str, ...], sheets: tuple[str, ...], most: float | None, *, whole: bool
) -> None:
    """Make sure that the words of the command line fit together. Raises: UsageError."""
    why = ""
    if not (programs or sheets or whole):
        why = "neither a program nor a sheet was named, nor --all"
    elif most is None or not 0 < most <= MOST_CONTENT:
        why = f"--most is no size up to {MOST_CONTENT >> 30}G, such as 512M"
    if why:
        raise UsageError(say("cli.no-capture-is-made"), why, say("cli.see-fundamen-capture-help"))
    require_free(target)


def _write(target: str, taken: Taken) -> CaptureManifest:
    """Write it whole, or not at all. Raises: UnreadableError."""
    try:
        with written_whole(os.path.abspath(target)) as file:
            manifest = write_capture(file, taken.manifest, taken.facts, taken.recording.taken, taken.summary)
    except OSError as error:
        raise UnreadableError(
            what=say("cli.the-capture-cannot-be-written-to", target=printable(target)),
            why=error.strerror or str(error),
            do=say("cli.name-a-file-in-a-folder"),
        ) from error
    return manifest
