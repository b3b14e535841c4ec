"""References: record, compare, and bring back what differs."""

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.execution.journal import Journal
from fundamen.machine.machine import Machine
from fundamen.model.paths import HostPath
from fundamen.report.contracts.comparing import comparison_record
from fundamen.report.reference_text import comparison_text, restored_text
from fundamen.restore.from_reference import TreeRestoration, perform_from_reference
from fundamen.sources.reference import Comparison, References, compare_with


def compared(name: str, folder: HostPath, output: Output) -> Comparison:
    """Compare a folder with a recorded reference."""
    baseline = References(options.home()).find(name)
    with output.working(f"Comparing {folder}"):
        return compare_with(baseline, folder)


def restore_from(
    machine: Machine, folder: str, name: str, journal: Journal, output: Output, *, only_rehearse: bool, yes: bool
) -> Exit:
    """Bring back what differs, after consent, and give the exit status."""
    path = machine.spelled(folder)
    comparison = compared(name, machine.host_path(path), output)
    outcome = TreeRestoration(comparison)
    if not output.as_json:
        output.show(comparison_text(comparison, machine, path, drawn=output.drawn, is_first=only_rehearse))
    if comparison.restorable and not only_rehearse and (yes or output.agreed("\nCarry this out?")):
        with output.progress(len(comparison.restorable), "Restoring") as progress:
            outcome = perform_from_reference(machine, path, comparison, journal, options.now(), progress)
        if not output.as_json:
            output.show("\n" + restored_text(outcome, machine, drawn=output.drawn))
    if output.as_json:
        output.show_record(comparison_record(outcome.proof or comparison, outcome.number))
    return Exit.FAULT_FOUND if outcome.remaining else Exit.NOTHING_AT_FAULT
