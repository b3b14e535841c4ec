"""``fundamen compare``."""

import os

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.figure_writing import require_writable_figures, write_figures
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.messages import say
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.report.contracts.machines import compare_record
from fundamen.report.drawing.figures import compare_figure
from fundamen.report.examining.compare_text import compare_text
from fundamen.survey.comparing import MachineComparison, compare_machines, compare_trees

_THIS = "this"


@click.command("compare", cls=Subcommand)
@click.argument("here")
@click.argument("there")
@click.option("--for", "programs", multiple=True, metavar="PROGRAM", help="Only what this program needs; its path.")
@click.option("--write", "targets", multiple=True, metavar="FILE", help="Also draw it, as .html, .svg or .png.")
@options.output_options
def command(here: str, there: str, *, programs: tuple[str, ...], targets: tuple[str, ...], output: Output) -> None:
    """Compare two machines, captures or folders: what differs within what a program needs, a fault on one side first.

    HERE and THERE are a mounted root, volume or prefix, a capture, or 'this' host; two other folders are compared file
    by file.

    \b
    fundamen compare this office.capture --for /opt/tidebook/bin/tidebook
    fundamen compare /mnt/office /mnt/quay --write office-quay.html
    fundamen compare /opt/breakwater clean/breakwater
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    status = Exit.NOTHING_AT_FAULT
    with output:
        require_writable_figures(targets, "here-there.html")
        comparison = _compare(here, there, programs, output)
        write_figures(lambda: compare_figure(comparison), targets, output)
        if output.as_json:
            output.show_record(compare_record(comparison))
        else:
            output.show(compare_text(comparison, verbose=output.verbose, drawn=output.drawn))
        is_clean = not comparison.differences and not comparison.shared_faults
        status = Exit.NOTHING_AT_FAULT if is_clean else Exit.FAULT_FOUND
    finish(status)


def _compare(here: str, there: str, programs: tuple[str, ...], output: Output) -> MachineComparison:
    machines: list[Machine] = []
    try:
        machines += [_machine(here), _machine(there)]
    except UnreadableError:
        if not (os.path.isdir(here) and os.path.isdir(there)) or machines:
            raise
    if not machines:
        if programs:
            raise UsageError(
                say("cli.nothing-is-compared"), say("cli.for-is-for-machines-and-these"), say("cli.leave-it-out")
            )
        with output.say_working(f"Comparing {here} and {there}"):
            return compare_trees(HostPath(os.path.abspath(here)), HostPath(os.path.abspath(there)), options.now())
    one, other = machines
    with output.say_working(f"Comparing {here} and {there}"):
        return compare_machines(one, other, [one.absolute_path(program) for program in programs])


def _machine(spec: str) -> Machine:
    if spec == _THIS:
        return options.this_host()
    return open_machine(spec, environment={}, current=os.getcwd())
