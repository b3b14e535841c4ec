"""The group of commands. A command's module is imported only when the command is called."""

import gc
import os
import sys
from importlib import import_module
from typing import Any, NoReturn

import click

from fundamen import __version__
from fundamen.cli.helping import CommandGroup

# stage -> name -> (module of the stage below fundamen.cli.commands that holds the command, what it is for)
_STAGES = {
    "Find out": {
        "clues": ("clues", "Explain an error message or a log."),
        "trace": ("trace", "Show everything a program needs, and what is wrong."),
        "build": ("build", "Show what a failing compile or link step lacks."),
        "survey": ("survey", "Check every program of a machine."),
    },
    "Examine": {
        "inspect": ("inspect", "Show what a file is: format, architecture, needs, digest."),
        "installer": ("installer", "Show what an installer brings, and foresee its outcome."),
        "prereqs": ("prereqs", "Check the prerequisites that a sheet lists."),
        "toolchain": ("toolchain", "Check a toolchain's folder against its catalogue."),
        "compare": ("compare", "Compare two machines, captures or folders."),
        "capture": ("capture", "Save a machine's facts in one file, to examine elsewhere."),
        "fleet": ("fleet", "Compare many machines by their captures."),
    },
    "Repair": {
        "restore": ("restore", "Repair programs from trusted sources."),
        "undo": ("undo", "Undo a restoration."),
        "resume": ("resume", "Continue an interrupted restoration."),
        "history": ("history", "List the restorations of a machine."),
        "plans": ("plans", "Show, rehearse or run a saved plan."),
        "roots": ("roots", "List, import or remove trusted root certificates."),
        "references": ("references", "Record a clean folder; compare with it; restore from it."),
        "locks": ("locks", "Check a lock file, or refresh one of its entries."),
        "authority": ("authority", "Check or renew a directory's certificate authority."),
    },
    "Prepare": {
        "sources": ("sources", "Trust sources of packages, or publish your own."),
        "cold-copies": ("cold_copies", "Make, check and restore compressed copies of folders."),
        "case": ("case", "Keep the record of a support case."),
        "handoff": ("handoff", "Write a request to a person who has the rights."),
        "demo": ("demo", "Play a worked example on made-up data."),
    },
}
_MODULES = {
    name: f"fundamen.cli.commands.{stage.lower().replace(' ', '_')}.{module}"
    for stage, commands in _STAGES.items()
    for name, (module, _) in commands.items()
}
_WAYS_IN = """\
What do you have?

  an error message    fundamen clues --text 'cannot open shared object file'
  a log               fundamen clues setup.log
  a program           fundamen trace /opt/tidebook/bin/tidebook
  an installer        fundamen installer setup.msi
  a whole machine     fundamen survey

For a mounted disk add --machine /mnt/disk. Each answer ends with the next command.
All commands: fundamen --help     A worked example: fundamen demo
"""


class _Commands(CommandGroup):
    """Finds a command by name in the table."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002 - click's own signature
        return list(_MODULES)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in _MODULES:
            return None
        module = import_module(_MODULES[cmd_name])
        command: click.Command = module.command
        return command

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands by stage, without importing any of them, and the options that they share."""
        for stage, commands in _STAGES.items():
            with formatter.section(stage):
                formatter.write_dl([(name, purpose) for name, (_, purpose) in commands.items()], col_max=16)
        with formatter.section("Common options"):
            formatter.write_dl(_common_options(ctx))

    def make_context(self, *args: Any, **more: Any) -> click.Context:  # noqa: ANN401 - click's own
        """Read the words before a command's name."""
        try:
            return super().make_context(*args, **more)
        except click.UsageError as error:
            _refuse(error)

    def invoke(self, ctx: click.Context) -> Any:  # noqa: ANN401 - likewise
        """Run a command."""
        try:
            return super().invoke(ctx)
        except click.exceptions.NoArgsIsHelpError:
            raise
        except click.UsageError as error:
            _refuse(error)


def _common_options(ctx: click.Context) -> list[tuple[str, str]]:
    from fundamen.cli import options  # noqa: PLC0415 - only for help

    def every() -> None:
        """Have all of them."""

    command = options.machine_options(options.output_options(every))
    records = (each.get_help_record(ctx) for each in command.__click_params__[::-1])  # type: ignore[attr-defined]
    return list(filter(None, records))


def _refuse(error: click.UsageError) -> NoReturn:
    """Tell an error of usage in the form of all our messages, and end with its status."""
    from fundamen.cli.helping import in_our_words  # noqa: PLC0415 - not part of a run that goes well
    from fundamen.cli.output import Output  # noqa: PLC0415
    from fundamen.model.errors import UsageError  # noqa: PLC0415

    with Output(as_json="--json" in sys.argv, quiet=False, verbose=False):
        raise UsageError(*in_our_words(error))
    raise AssertionError  # the exit of the output ends the run


@click.group("fundamen", cls=_Commands, invoke_without_command=True, no_args_is_help=False)
@click.version_option(__version__, prog_name="fundamen", message="%(prog)s %(version)s")
@click.pass_context
def root(ctx: click.Context) -> None:
    """Find out what a failing program needs and lacks, and repair it from trusted sources.

    Exit status: 0 no fault; 1 a fault; 2 wrong usage; 3 unreadable input; 4 refused for lack of proof; 5 failed and
    undone; 6 unfinished.
    """
    if ctx.invoked_subcommand is None:
        click.echo(_WAYS_IN, nl=False)


def main() -> NoReturn:
    """Run the command line and end the process with its exit status."""
    # A run makes tens of thousands of records that live to its end; the collector would look through them in vain.
    gc.set_threshold(100_000, 20, 20)
    facts: dict[str, Any] = {}  # what the run finds out
    try:
        root(prog_name="fundamen", obj=facts)
    except SystemExit as ended:
        _record(facts, ended.code if isinstance(ended.code, int) else 0)
        raise
    except Exception as error:  # noqa: BLE001 - outermost: what arrives here is a bug of ours
        from fundamen.cli.output import report_bug  # noqa: PLC0415

        sys.exit(report_bug(error))
    finally:
        gc.freeze()  # nor when it ends
    sys.exit(0)


def _record(facts: dict[str, Any], status: int) -> None:
    """Record the run in the case that is open, if there is one."""
    words = sys.argv[1:]
    if not words or words[0] not in _MODULES:
        return
    from fundamen.cli import options  # noqa: PLC0415 - loaded already by every command
    from fundamen.model.errors import UsageError  # noqa: PLC0415

    try:
        folder = os.path.join(options.home(), "cases")
    except UsageError:  # the command that needs it has said so
        return
    if not os.path.exists(os.path.join(folder, "current")):
        return
    from fundamen.cases.recording import record  # noqa: PLC0415 - only while a case is open
    from fundamen.cases.store import CaseStore  # noqa: PLC0415
    from fundamen.model.display import printable  # noqa: PLC0415
    from fundamen.model.errors import FundamenError  # noqa: PLC0415
    from fundamen.model.paths import HostPath  # noqa: PLC0415

    try:
        record(CaseStore(HostPath(folder)), words, facts, status, options.now())
    except (FundamenError, OSError) as error:
        click.echo(f"This run was not recorded in the open case: {printable(str(error))}", err=True)
