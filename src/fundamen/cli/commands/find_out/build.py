"""``fundamen build``."""

import os
import sys
from collections.abc import Callable, Sequence
from functools import partial

import click

from fundamen.building.examination import examine_command, examine_log, examine_target
from fundamen.building.records import BuildStep
from fundamen.cli import options
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.authorities import authorities_at
from fundamen.evidence.authority import Authority
from fundamen.machine.file_bytes import open_ordinary
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, UnreadableError, UsageError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import MachinePath
from fundamen.report.examining.build_text import build_text, next_steps

_LARGEST_LOG = 64 << 20  # bytes; of a longer one the end counts


@click.command("build", cls=Subcommand)
@click.argument("logs", nargs=-1, metavar="[LOG]...")
@click.option("--command", "-c", "lines", multiple=True, metavar="LINE", help="A compiler's or linker's command line.")
@click.option("--make", "targets", multiple=True, metavar="TARGET", help="Ask make what it would run for TARGET.")
@click.option("--directory", "-C", default=".", metavar="FOLDER", help="The folder in which the build runs.")
@options.machine_options
@options.output_options
def command(
    logs: tuple[str, ...],
    lines: tuple[str, ...],
    targets: tuple[str, ...],
    directory: str,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Show what a failing compile or link step lacks: libraries, start files, headers, symbols.

    Give the output of the build as LOG (- for standard input), one of its command lines, or the target that fails.
    Nothing is compiled or changed.

    \b
    fundamen build make.log
    fundamen build --command 'cc -m32 -o tidebook main.o -lsaltgrass'
    fundamen build --make tidebook --directory /opt/src/tidebook
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    worst = Exit.NOTHING_AT_FAULT
    with output:
        if not (logs or lines or targets):
            raise UsageError(
                what=say("cli.no-build-is-given"),
                why=say("cli.neither-a-log-nor-command-nor"),
                do=say("cli.pipe-a-build-into-it-make"),
            )
        examined = machine()
        folder = MachinePath(os.path.abspath(directory))
        authorities = authorities_at(options.home(), examined.platform, options.now(), output)
        asked: list[tuple[str, Callable[[], tuple[BuildStep, ...]]]] = [
            *((name, partial(_examine_file, examined, name, folder, authorities)) for name in logs),
            *((line, partial(examine_command, examined, line, folder, authorities)) for line in lines),
            *((name, partial(examine_target, examined, name, folder, authorities)) for name in targets),
        ]
        for index, (given, examine) in enumerate(asked):
            try:
                with Isolated(given), output.say_working("Asking the compiler, and looking around"):
                    steps = examine()
                with Isolated(given):
                    _show(output, given, steps, first=index == 0)
            except FundamenError as error:
                worst = max(worst, exit_of(error))
                _fail(output, given, error)
                continue
            worst = max(worst, Exit.FAULT_FOUND if any(step.faults for step in steps) else Exit.NOTHING_AT_FAULT)
    finish(worst)


def _examine_file(
    machine: Machine, name: str, folder: MachinePath, authorities: Sequence[Authority]
) -> tuple[BuildStep, ...]:
    return examine_log(machine, _text_of(name), folder, authorities)


def _text_of(name: str) -> str:
    """The text of a log; of a very long one only the end, where a build stops."""
    try:
        if name == "-":
            data = sys.stdin.buffer.read()
        else:
            with open_ordinary(name) as file:
                if file.seekable():
                    file.seek(max(0, os.fstat(file.fileno()).st_size - _LARGEST_LOG))
                data = file.read(_LARGEST_LOG)
    except OSError as error:
        raise UnreadableError(
            what=say("cli.the-log-cannot-be-read", name=printable(name)),
            why=error.strerror or str(error),
            do=say("cli.check-its-spelling-and-its-rights"),
        ) from error
    return data[-_LARGEST_LOG:].decode("utf-8", "replace")


def _show(output: Output, given: str, steps: Sequence[BuildStep], *, first: bool) -> None:
    if output.as_json:
        from fundamen.report.contracts.building import build_record  # noqa: PLC0415 - only where it is asked for

        output.show_record(build_record(given, steps, next_steps(steps)))
    else:
        output.show(("" if first else "\n") + build_text(steps, drawn=output.drawn, verbose=output.verbose))


def _fail(output: Output, given: str, error: FundamenError) -> None:
    if output.as_json:
        from fundamen.report.contracts.building import BuildRecord  # noqa: PLC0415
        from fundamen.report.contracts.line import failure  # noqa: PLC0415

        output.show_record(BuildRecord(input=given, error=failure(error)))
    output.tell(error)
