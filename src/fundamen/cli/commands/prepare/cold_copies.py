"""``fundamen cold-copies`` and its commands."""

from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import CommandGroup
from fundamen.cli.output import Output, finish
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID


@click.group("cold-copies", cls=CommandGroup)
def command() -> None:
    """Make compressed copies of data folders before a risky step; list, check, restore and delete them.

    A copy keeps rights, owners, times, attributes and the SHA-256 of every file, and is read back before it counts.

    \b
    fundamen cold-copies make /var/lib/tidebook --because 'before the new runtime'
    fundamen cold-copies check 3
    fundamen cold-copies restore 3 --rehearse
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


@command.command("make", short_help="Make a copy of a folder.")
@click.argument("folder")
@click.option("--because", default="", metavar="TEXT", help="Why the copy is made; shown in the list.")
@click.option("--force", is_flag=True, help="Also while programs have files in it open.")
@options.machine_options
@options.output_options
def take(folder: str, *, because: str, force: bool, machine: Callable[[], Machine], output: Output) -> None:
    """Make a copy of FOLDER. No copy is made while a program has a file of it open, unless you use --force.

    \b
    fundamen cold-copies make /var/lib/tidebook --because 'before the new runtime'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.tasks.cold_copies import copy_folder  # noqa: PLC0415 - each command its own
    from fundamen.report.contracts.cold_copying import cold_copies_record  # noqa: PLC0415
    from fundamen.report.repairing.cold_copies_text import taken_text  # noqa: PLC0415

    with output:
        examined = machine()
        copy = copy_folder(examined, examined.absolute_path(folder), because, output, force=force)
        if output.as_json:
            output.show_record(cold_copies_record([(copy, UNSAID)], with_entries=False))
        else:
            output.show(taken_text(copy, examined, drawn=output.drawn))


@command.command("list", short_help="List the copies.")
@options.machine_options
@options.output_options
def list_(*, machine: Callable[[], Machine], output: Output) -> None:
    """List the copies of a machine's folders, the newest first; with --json also their files.

    \b
    fundamen cold-copies list
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.tasks.cold_copies import store_of  # noqa: PLC0415
    from fundamen.report.contracts.cold_copying import cold_copies_record  # noqa: PLC0415
    from fundamen.report.repairing.cold_copies_text import list_text  # noqa: PLC0415

    with output:
        examined = machine()
        copies, failed = store_of(examined).copies()
        for error in failed:
            output.tell(error)
        if output.as_json:
            output.show_record(cold_copies_record([(copy, UNSAID) for copy in copies], with_entries=True))
        else:
            output.show(list_text(copies, examined, drawn=output.drawn))
    finish(Exit.FAULT_FOUND if failed else Exit.NOTHING_AT_FAULT)


@command.command("check", short_help="Read copies back and compare every file.")
@click.argument("numbers", type=options.NUMBER, nargs=-1)
@options.machine_options
@options.output_options
def check(numbers: tuple[int, ...], *, machine: Callable[[], Machine], output: Output) -> None:
    """Read all copies back, or those with the NUMBERS, and compare every file with its SHA-256.

    \b
    fundamen cold-copies check 3
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.tasks.cold_copies import check_all  # noqa: PLC0415
    from fundamen.report.contracts.cold_copying import cold_copies_record  # noqa: PLC0415
    from fundamen.report.repairing.cold_copies_text import checked_text  # noqa: PLC0415

    with output:
        examined = machine()
        results, failed = check_all(examined, numbers, output)
        for error in failed:
            output.tell(error)
        if output.as_json:
            output.show_record(cold_copies_record(results, with_entries=False))
        else:
            output.show(checked_text(results, examined, drawn=output.drawn))
        is_damaged = bool(failed) or any(why for _, why in results)
    finish(Exit.FAULT_FOUND if is_damaged else Exit.NOTHING_AT_FAULT)


@command.command("restore", short_help="Bring back what a copy holds.")
@click.argument("number", type=options.NUMBER)
@click.argument("parts", nargs=-1)
@click.option("--exactly", is_flag=True, help="Set aside files that are newer than the copy.")
@click.option("--rehearse", "only_rehearse", is_flag=True, help="Show what would be done; change nothing.")
@click.option("--yes", is_flag=True, help="Carry it out without asking.")
@options.machine_options
@options.output_options
def restore(
    number: int,
    parts: tuple[str, ...],
    *,
    exactly: bool,
    only_rehearse: bool,
    yes: bool,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Bring back what copy NUMBER holds, or only the PARTS that you name, where the folder differs now.

    Newer files stay, unless you use --exactly: then they are set aside, not deleted.

    \b
    fundamen cold-copies restore 3 --rehearse
    fundamen cold-copies restore 3 tides/2026.db berths
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.tasks.cold_copies import bring_back  # noqa: PLC0415
    from fundamen.cli.tasks.restoring import Consent, Desk  # noqa: PLC0415
    from fundamen.execution.home import journal_of  # noqa: PLC0415

    with output:
        examined = machine()
        journal = journal_of(examined, options.home())
        desk = Desk(examined, journal, output, Consent(only_rehearse, yes))
        status = bring_back(desk, number, parts, exactly=exactly)
    finish(status)


@command.command("delete", short_help="Delete a copy.")
@click.argument("number", type=options.NUMBER)
@click.option("--yes", is_flag=True, help="Delete it without asking.")
@options.machine_options
@options.output_options
def drop(number: int, *, yes: bool, machine: Callable[[], Machine], output: Output) -> None:
    """Delete copy NUMBER; it cannot be brought back.

    \b
    fundamen cold-copies delete 2
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cli.tasks.cold_copies import store_of  # noqa: PLC0415
    from fundamen.report.repairing.cold_copies_text import drop_text  # noqa: PLC0415

    with output:
        store = store_of(machine())
        copy = store.find(number)
        is_agreed = yes or output.ask_consent(drop_text(copy))
        if is_agreed:
            store.drop(number)
        output.note(f"Cold copy {number} is deleted." if is_agreed else "Nothing was deleted.")
    finish(Exit.NOTHING_AT_FAULT if is_agreed else Exit.FAULT_FOUND)
