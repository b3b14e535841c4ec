"""References: record, compare, and bring back what differs."""

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.cli.tasks.restoring import Desk, carried_through, exit_after
from fundamen.model.paths import HostPath
from fundamen.report.contracts.comparing import comparison_record
from fundamen.report.repairing.reference_text import comparison_text, restored_text
from fundamen.restore.from_reference import prepare_reference
from fundamen.sources.reference import ReferenceComparison, References, compare_with


def compare_folder(name: str, folder: HostPath, output: Output) -> ReferenceComparison:
    """Compare a folder with a recorded reference."""
    baseline = References(options.home()).find(name)
    with output.say_working(f"Comparing {folder}"):
        return compare_with(baseline, folder)


def restore_from(desk: Desk, folder: str, name: str) -> Exit:
    """Bring back what differs, after consent, and give the exit status."""
    machine, output = desk.machine, desk.output
    path = machine.absolute_path(folder)
    comparison = compare_folder(name, machine.host_path(path), output)
    if not output.as_json:
        is_first = desk.consent.only_rehearse
        output.show(comparison_text(comparison, machine, path, drawn=output.drawn, is_first=is_first))
    restoration, _ = carried_through(desk, prepare_reference(machine, path, comparison))
    if output.as_json:
        output.show_record(comparison_record(restoration.proof or comparison, restoration.number))
    elif restoration.proof is not None:
        output.show("\n" + restored_text(restoration, machine, drawn=output.drawn))
    return exit_after(restoration)
