"""Plans as files: read, performed, written."""

import os
from collections.abc import Sequence
from functools import partial

from fundamen.changes.form import Means
from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.cli.tasks.authorities import authorities_at
from fundamen.cli.tasks.fetching import fetcher
from fundamen.cli.tasks.media import Named, new_packages, on_demand
from fundamen.cli.tasks.restoring import Desk, carried_through, exit_after
from fundamen.execution.home import kept_bytes
from fundamen.machine.file_bytes import open_ordinary
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.placing.own_files import write_whole
from fundamen.report.commands import command
from fundamen.report.contracts.restoring import restore_record
from fundamen.report.repairing.plan_text import plan_rehearsal_text, plan_text
from fundamen.restore.on_demand import asked_of
from fundamen.restore.plan_file import PlanFile, plan_bytes, read_plan
from fundamen.restore.planned import plan_of, prepare_plan
from fundamen.restore.rehearsal import Rehearsal
from fundamen.sources.os_archive import NewPackages
from fundamen.sources.refreshing import proven_catalogues
from fundamen.sources.store import SourceStore

_MOST_PLAN = 256 << 20  # bytes


def opened_plan(name: str) -> PlanFile:
    """The plan in a file of this host. Raises: UnreadableError, UsageError: as ``read_plan`` raises."""
    try:
        with open_ordinary(name) as file:
            data = file.read(_MOST_PLAN)
    except OSError as error:
        raise UnreadableError(
            what=say("cli.the-plan-cannot-be-read", name=printable(name)),
            why=error.strerror or str(error),
            do=say("cli.name-the-file-that-save-plan"),
        ) from error
    return read_plan(data, name)


def carry_out_plan(desk: Desk, name: str, waiting: str, media: Named, *, archive: bool) -> Exit:
    """Rehearse a plan from a file, perform it after consent, and give the exit status.

    Raises:
        FundamenError: as its steps raise.
    """
    machine, output = desk.machine, desk.output
    plan = opened_plan(name)
    means = _means(desk, name, media, archive=archive)
    authorities = authorities_at(options.home(), machine.platform, options.now(), output)
    with output.say_working("Rehearsing the plan"):
        prepared = prepare_plan(machine, plan, means, authorities, desk.journal.programs())
    if not output.as_json:
        output.show(plan_rehearsal_text(plan, prepared, machine, drawn=output.drawn))
    restoration, state = carried_through(desk, prepared, waiting=waiting)
    if output.as_json:
        output.show_record(restore_record(restoration, state))
    else:
        text = plan_text(restoration, state, (*media.words, name), machine, drawn=output.drawn)
        output.show("\n" * (state == "restored") + text)
    return exit_after(restoration)


def _means(desk: Desk, name: str, media: Named, *, archive: bool) -> Means:
    machine, output = desk.machine, desk.output
    home, store = options.home(), SourceStore(options.home())
    with output.say_working("Proving the sources"):
        catalogues = proven_catalogues(store, output.note, options.now())
    further = on_demand(machine, media, output, archive=archive)

    def bring(names: Sequence[str]) -> NewPackages:
        new = new_packages(machine, names, output)
        assert new is not None  # noqa: S101 - names were given
        return new

    def prepare_copy(folder: MachinePath) -> None:
        from fundamen.cli.tasks.cold_copies import copy_folder  # noqa: PLC0415 - few plans ask for one

        copy = copy_folder(machine, folder, f"before the plan {name}", output)
        output.note(f"Cold copy {copy.number} of {copy.folder} is taken: {copy.file_count} files, read back.")

    return Means(
        catalogues=catalogues,
        fetch=fetcher(store, output),
        keep=lambda data: kept_bytes(home, data),
        bring=bring,
        now_seconds=int(options.now().timestamp()),
        environment=os.environ,
        ask=partial(asked_of, further),
        take_copy=prepare_copy,
        password=desk.password,
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
        write_whole(os.path.abspath(name), plan_bytes(plan))
    except OSError as error:
        raise UnreadableError(
            what=say("cli.the-plan-cannot-be-written-to", name=printable(name)),
            why=error.strerror or str(error),
            do=say("cli.name-a-file-in-a-folder-that"),
        ) from error
    output.note(f"The plan is in {name}. To carry it out: {command(machine, 'plans', 'run', name)}")
