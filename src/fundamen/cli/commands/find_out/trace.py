"""``fundamen trace``."""

import os
from collections.abc import Callable, Iterator, Sequence

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.authorities import authorities_at
from fundamen.evidence.authority import Authority
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.errors import FundamenError, UsageError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import MachinePath
from fundamen.report.examining.trace_text import next_step, trace_text
from fundamen.trace.hints import with_hints
from fundamen.trace.lost import find_program_or_lost
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program, trace_programs


@click.command("trace", cls=Subcommand)
@click.argument("programs", nargs=-1, required=True, metavar="PROGRAM...")
@click.option("--observe", is_flag=True, help="Run each PROGRAM, and add what it loads as it runs.")
@click.option(
    "--observe-for",
    "seconds",
    cls=OnlyWith,
    only_with=("--observe",),
    default=30.0,
    show_default=True,
    metavar="SECONDS",
    help="At most so long.",
)
@click.option("--symbols", is_flag=True, help="Also list the symbols that no loaded file defines (Linux).")
@click.option("--only-find", is_flag=True, help="Do not check whether the files are as installed.")
@click.option(
    "--write",
    "files",
    multiple=True,
    metavar="FILE",
    help="Also write it to FILE: .html, .svg, .png, .dot or .cdx.json.",
)
@options.machine_options
@options.output_options
def command(
    programs: tuple[str, ...],
    machine: Callable[[], Machine],
    output: Output,
    *,
    observe: bool,
    seconds: float,
    only_find: bool,
    symbols: bool,
    files: tuple[str, ...],
) -> None:
    """Show everything that each PROGRAM or library needs, where the loader finds it, and what is wrong with it.

    Nothing is run and nothing is changed, unless you ask to observe. A PROGRAM is a path of the machine, or a name on
    PATH.

    \b
    fundamen trace /opt/tidebook/bin/tidebook
    fundamen trace --machine /mnt/disk 'C:\\Program Files\\Tidebook\\tidebook.exe'
    fundamen trace --write tidebook.html /opt/tidebook/bin/tidebook
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    worst = Exit.NOTHING_AT_FAULT
    with output:
        if files:
            _require_one(programs, files)
        examined = machine()
        authorities = [] if only_find else authorities_at(options.home(), examined.platform, options.now(), output)
        paths = [find_program_or_lost(examined, name) for name in programs]
        found: Iterator[Trace | FundamenError] = trace_programs(examined, paths, authorities, symbols=symbols)
        if observe:
            found = (_trace_observed(examined, path, seconds, authorities, output, symbols=symbols) for path in paths)
        for index, name in enumerate(programs):
            with output.say_working(f"Tracing {name}"):
                trace = _with_hints(examined, next(found), authorities, name)
            try:
                if isinstance(trace, FundamenError):
                    raise trace
                with Isolated(name):
                    _show(output, name, trace, examined, first=index == 0)
            except FundamenError as error:
                worst = max(worst, exit_of(error))
                _fail(output, name, error)
                continue
            worst = max(worst, Exit.FAULT_FOUND if trace.faults else Exit.NOTHING_AT_FAULT)
            output.remember(trace=trace)
            if files:
                from fundamen.cli.writing import write_trace  # noqa: PLC0415 - only where it is asked for

                write_trace(trace, examined, files, options.now(), output)
        for gap in examined.registry.gaps:
            output.note(f"Not known from the registry: {gap}")
    finish(worst)


def _require_one(programs: tuple[str, ...], files: tuple[str, ...]) -> None:
    """Make sure that the files can be written. Raises: UsageError: they cannot, or are for several programs."""
    from fundamen.cli.writing import require_writable  # noqa: PLC0415 - only where it is asked for

    if len(programs) > 1:
        raise UsageError(
            what=say("cli.the-traces-of-several-programs-are"),
            why=say("cli.programs-are-named", count=len(programs)),
            do=say("cli.trace-each-by-itself-with-a"),
        )
    require_writable(files)


def _trace_observed(
    machine: Machine,
    program: MachinePath,
    seconds: float,
    authorities: Sequence[Authority],
    output: Output,
    *,
    symbols: bool,
) -> Trace | FundamenError:
    """Run a program, and trace it with what was seen; the error where that cannot be done."""
    from fundamen.trace import observing  # noqa: PLC0415 - only where asked

    try:
        run = observing.prepare(machine, program, seconds, dict(os.environ), os.getcwd())
        name = machine.paths.basename(program)
        output.note(f"Running {name} {run.under} for at most {seconds:g} s; what it does is real.")
        return trace_program(machine, program, authorities, run.start(), symbols=symbols)
    except FundamenError as error:
        return error


def _with_hints(
    machine: Machine, trace: Trace | FundamenError, authorities: Sequence[Authority], name: str
) -> Trace | FundamenError:
    """A trace with what may help besides; an error stays what it is."""
    if isinstance(trace, FundamenError):
        return trace
    try:
        with Isolated(name):
            return with_hints(machine, trace, authorities, name)
    except FundamenError as error:
        return error


def _show(output: Output, name: str, trace: Trace, machine: Machine, *, first: bool) -> None:
    if output.as_json:
        from fundamen.report.contracts.tracing import trace_record  # noqa: PLC0415 - only where JSON is asked for

        output.show_record(trace_record(name, trace, next_step(trace, machine)))
    else:
        page = trace_text(trace, machine, drawn=output.drawn, verbose=output.verbose)
        output.show(page if first else "\n" + page)


def _fail(output: Output, name: str, error: FundamenError) -> None:
    if output.as_json:
        from fundamen.report.contracts.line import failure  # noqa: PLC0415
        from fundamen.report.contracts.tracing import TraceRecord  # noqa: PLC0415

        output.show_record(TraceRecord(path=name, error=failure(error)))
    output.tell(error)
