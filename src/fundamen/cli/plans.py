"""``restore --plan`` and ``--save-plan``: a plan as a file."""

import os
from collections.abc import Sequence

from fundamen.changes.form import Means
from fundamen.cli import options
from fundamen.cli.authorities import authorities_at
from fundamen.cli.exits import Exit
from fundamen.cli.fetching import fetching
from fundamen.cli.media import new_packages
from fundamen.cli.output import Output
from fundamen.cli.stopping import stoppable
from fundamen.execution.home import kept_bytes
from fundamen.execution.journal import Journal
from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import MachinePath, shown
from fundamen.placing.own_files import write_whole
from fundamen.report.commands import command
from fundamen.report.contracts.restoring import RestoreState, plan_record
from fundamen.report.plan_text import plan_rehearsal_text, plan_text
from fundamen.restore.plan_file import read_plan, written
from fundamen.restore.planned import PlannedRestoration, perform_plan, plan_of, rehearse_plan
from fundamen.restore.rehearsal import Rehearsal
from fundamen.sources.os_archive import NewPackages
from fundamen.sources.refreshing import proven_catalogues
from fundamen.sources.store import SourceStore

_MOST_PLAN = 256 << 20  # bytes


def carry_out_plan(
    machine: Machine, name: str, waiting: str, journal: Journal, output: Output, *, only_rehearse: bool, yes: bool
) -> Exit:
    """Rehearse a plan from a file, carry it out after consent, and give the exit status.

    Raises:
        FundamenError: as its steps raise.
    """
    try:
        with open(name, "rb") as file:
            data = file.read(_MOST_PLAN)
    except OSError as error:
        raise UnreadableError(
            what=f"The plan {shown(name)} cannot be read",
            why=error.strerror or str(error),
            do="Name the file that --save-plan wrote.",
        ) from error
    plan = read_plan(data, name)
    home, store = options.home(), SourceStore(options.home())
    with output.working("Proving the sources"):
        catalogues = proven_catalogues(store, output.note, options.now())

    def bring(names: Sequence[str]) -> NewPackages:
        new = new_packages(machine, names, output)
        assert new is not None  # noqa: S101 - names were given
        return new

    means = Means(
        catalogues,
        fetching(store, output),
        lambda data: kept_bytes(home, data),
        bring,
        int(options.now().timestamp()),
        os.environ,
    )
    authorities = authorities_at(home, machine.platform, options.now(), output)
    with output.working("Rehearsing the plan"):
        planned = rehearse_plan(machine, plan, means, authorities, journal.programs())
    if not output.as_json:
        output.show(plan_rehearsal_text(planned, machine, drawn=output.drawn))

    def copying(folder: MachinePath) -> object:
        from fundamen.cli.cold_copies import taken  # noqa: PLC0415 - few plans ask for one

        copy = taken(machine, folder, f"before the plan {name}", output)
        output.note(f"Cold copy {copy.number} of {copy.folder} is taken: {copy.file_count} files, read back.")
        return copy

    state = _state(planned, output, only_rehearse=only_rehearse, yes=yes)
    if state == "restored":
        with output.progress(len(planned.work.steps), "Restoring") as progress, stoppable(output) as stop:
            now = options.now()
            planned = perform_plan(
                machine, planned, journal, authorities, now, progress, stop, copying, waiting, output.note
            )
    if output.as_json:
        output.show_record(plan_record(planned, state))
    else:
        output.show(
            ("\n" if state == "restored" else "") + plan_text(planned, state, name, machine, drawn=output.drawn)
        )
    is_done = state in {"restored", "not needed"}
    return Exit.NOTHING_AT_FAULT if is_done and planned.is_well else Exit.FAULT_FOUND


def require_free(name: str) -> None:
    """Make sure that a plan can be written to a file that is not there yet. Raises: UsageError: it is."""
    if os.path.exists(name):
        raise UsageError(
            what=f"No plan is written to {shown(name)}",
            why="a file of this name is there already",
            do="Nothing was changed. Name another file.",
        )


def save_plan(machine: Machine, rehearsal: Rehearsal, name: str, output: Output) -> None:
    """Write a rehearsal's plan to a file; none where there is nothing to do.

    Raises:
        UnreadableError: it cannot be written.
    """
    plan = plan_of(machine, rehearsal, options.now())
    if plan is None:
        output.note(f"No plan is written to {name}: there is nothing to be done.")
        return
    try:
        write_whole(os.path.abspath(name), written(plan))
    except OSError as error:
        raise UnreadableError(
            what=f"The plan cannot be written to {shown(name)}",
            why=error.strerror or str(error),
            do="Name a file in a folder that may be written.",
        ) from error
    output.note(f"The plan lies in {name}. Carry it out with: {command(machine, 'restore', '--plan', name)}")


def _state(planned: PlannedRestoration, output: Output, *, only_rehearse: bool, yes: bool) -> RestoreState:
    if not planned.work.steps:
        return "not needed"
    if planned.harmed:
        return "no remedy"
    if only_rehearse:
        return "rehearsed"
    return "restored" if yes or output.agreed("\nCarry this out?") else "declined"
