"""``fundamen inspect``."""

from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.authorities import authorities_at
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.output import Output, finish
from fundamen.machine.machine import Machine
from fundamen.machine.programs import find_program
from fundamen.model.errors import FundamenError
from fundamen.trace.inspection import Inspection, inspect_file


@click.command("inspect")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--exports", is_flag=True, help="Also list the names that the file offers to others.")
@options.machine_options
@options.output_options
def command(files: tuple[str, ...], *, exports: bool, machine: Callable[[], Machine], output: Output) -> None:
    """Show what each FILE is: format, architecture, own name, needs, digest, and any damage to its structure.

    \b
    fundamen inspect /usr/lib/x86_64-linux-gnu/libz.so.1
    fundamen inspect --json *.dll | jq -r '.path + " " + .architectures[0]'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    worst = Exit.NOTHING_AT_FAULT
    with output:
        examined = machine()
        authorities = authorities_at(options.home(), examined.platform, options.now(), output)
        for index, name in enumerate(files):
            try:
                with output.working(f"Reading {name}"):
                    path = find_program(examined, name)
                    inspection = inspect_file(examined, path, authorities, exports=exports)
            except FundamenError as error:
                worst = max(worst, exit_of(error))
                _fail(output, name, error)
                continue
            worst = max(worst, Exit.FAULT_FOUND if inspection.is_at_fault else Exit.NOTHING_AT_FAULT)
            _show(output, inspection, first=index == 0)
    finish(worst)


def _show(output: Output, inspection: Inspection, *, first: bool) -> None:
    if output.as_json:
        from fundamen.report.contracts.inspecting import inspect_record  # noqa: PLC0415 - only where it is asked for

        output.show_record(inspect_record(inspection))
    else:
        from fundamen.report.inspect_text import inspection_text  # noqa: PLC0415

        output.show(("" if first else "\n") + inspection_text(inspection, drawn=output.drawn))


def _fail(output: Output, name: str, error: FundamenError) -> None:
    if output.as_json:
        from fundamen.report.contracts.inspecting import InspectRecord  # noqa: PLC0415
        from fundamen.report.contracts.line import failure  # noqa: PLC0415

        output.show_record(InspectRecord(path=name, error=failure(error)))
    output.tell(error)
