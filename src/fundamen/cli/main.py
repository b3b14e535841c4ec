"""The group of commands. A command's module is imported only when the command is called."""

import gc
import os
import sys
from importlib import import_module
from typing import Any, NoReturn

import click

from fundamen import __version__

# name -> module below fundamen.cli.commands that holds a command of that name, and what it is for
_COMMANDS = {
    "clues": ("clues", "Tell what an error text or log says, and what is behind it."),
    "trace": ("trace", "Show all that a program needs, and how each need stands."),
    "inspect": ("inspect", "Show what a file is: format, architecture, needs, digest."),
    "survey": ("survey", "Tell all that is wrong with what a machine's programs stand on."),
    "fleet": ("fleet", "Lay many machines side by side by their captures."),
    "compare": ("compare", "Lay two machines, captures or trees side by side."),
    "capture": ("capture", "Write a machine's facts to one file, to be examined elsewhere."),
    "prereqs": ("prereqs", "Check a requirement sheet: what no file declares."),
    "installer": ("installer", "Show what an install package bundles, and what it will conclude here."),
    "toolchain": ("toolchain", "Check a toolchain's folder against its catalogue."),
    "authority": ("authority", "The certificate authority of a directory: check, make anew."),
    "build": ("build", "Show what a failing compile or link step lacks."),
    "restore": ("restore", "Put right what a program stands on, from trusted sources."),
    "resume": ("resume", "Go on with a restoration that was cut off."),
    "undo": ("undo", "Take a restoration back."),
    "history": ("history", "List the restorations of a machine."),
    "cold-copies": ("cold_copies", "Compressed copies of data folders: take, check, restore."),
    "case": ("case", "The record of a case: note, next remedy, what helped before."),
    "handoff": ("handoff", "The request to whoever has the rights."),
    "sources": ("sources", "The trusted sources: trust, list, offers; publish."),
    "demo": ("demo", "Play a worked example on made-up data."),
}


class _Commands(click.Group):
    """Finds a command by name in the table."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002 - click's own signature
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in _COMMANDS:
            return None
        module = import_module(f"fundamen.cli.commands.{_COMMANDS[cmd_name][0]}")
        command: click.Command = module.command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        """List the commands without importing any of them."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, purpose) for name, (_, purpose) in _COMMANDS.items()])


@click.command(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="fundamen", message="%(prog)s %(version)s")
def _group() -> None:
    """Find out what a failing program stands on, and put right what is missing, wrong or damaged.

    \b
    An error text or a log:       fundamen clues setup.log
    A program does not start:     fundamen trace /opt/tidebook/bin/tidebook
    Put it right, rehearsed first: fundamen restore --rehearse /opt/tidebook/bin/tidebook
    Another machine's disk:       fundamen trace --machine /mnt/disk 'C:\\Tidebook\\tidebook.exe'
    See how it all works:         fundamen demo

    Exit status: 0 nothing at fault; 1 a fault was found or remains; 2 wrong usage; 3 an input cannot be read;
    4 refused, because trust could not be proven; 5 a restoration failed and was taken back; 6 an unfinished
    restoration must be undone first.
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


def main() -> NoReturn:
    """Run the command line and end the process with its exit status."""
    # A run makes tens of thousands of records that live to its end; the collector would look through them in vain.
    gc.set_threshold(100_000, 20, 20)
    facts: dict[str, Any] = {}  # what the run finds out
    try:
        _group(prog_name="fundamen", obj=facts)
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
    if not words or words[0] not in _COMMANDS:
        return
    from fundamen.cli import options  # noqa: PLC0415 - loaded already by every command
    from fundamen.model.errors import UsageError  # noqa: PLC0415

    try:
        folder = os.path.join(options.home(), "cases")
    except UsageError:  # whoever needs it has said so
        return
    if not os.path.exists(os.path.join(folder, "current")):
        return
    from fundamen.cases.recording import record  # noqa: PLC0415 - only while a case is open
    from fundamen.cases.store import CaseStore  # noqa: PLC0415
    from fundamen.model.display import shown  # noqa: PLC0415
    from fundamen.model.errors import FundamenError  # noqa: PLC0415
    from fundamen.model.paths import HostPath  # noqa: PLC0415

    try:
        record(CaseStore(HostPath(folder)), words, facts, status, options.now())
    except (FundamenError, OSError) as error:
        click.echo(f"This run was not recorded in the open case: {shown(str(error))}", err=True)
