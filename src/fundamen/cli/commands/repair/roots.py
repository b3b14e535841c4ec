"""``fundamen roots`` and its commands."""

from collections.abc import Callable

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import CommandGroup
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.restoring import Consent, Desk
from fundamen.cli.tasks.root_import import import_root_of, remove_root_of
from fundamen.execution.home import journal_of
from fundamen.execution.locking import require_ready
from fundamen.machine.machine import Machine
from fundamen.machine.programs import find_program
from fundamen.report.contracts.trust import roots_record
from fundamen.report.repairing.root_text import roots_text
from fundamen.restore.root_import import roots_of


@click.group("roots", cls=CommandGroup)
def command() -> None:
    """List the root certificates that a machine trusts, import one that a program needs, or remove one.

    A root goes into the machine's own store, never into a user's. Import one only after its owner has read its whole
    fingerprint out to you.

    \b
    fundamen roots list --find ardvane
    fundamen roots import 'C:\\Downloads\\setup.exe' --machine /mnt/office
    fundamen roots remove '3f2a 90c1 17be'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


@command.command("list", short_help="List the trusted root certificates.")
@click.option("--find", "text", default="", metavar="TEXT", help="Only those whose name or fingerprint has TEXT.")
@options.machine_options
@options.output_options
def list_(text: str, machine: Callable[[], Machine], output: Output) -> None:
    """List the root certificates that the machine trusts: name, end of validity, SHA-256 fingerprint, where it lies.

    \b
    fundamen roots list --find ardvane -v
    """  # noqa: D301
    with output:
        examined = machine()
        wanted = text.lower()
        digits = "".join(wanted.split())
        every = roots_of(examined)
        found = [
            (root, where)
            for root, where in every.values()
            if wanted in root.subject.whole.lower() or (digits and root.sha256.startswith(digits))
        ]
        found.sort(key=lambda each: each[0].subject.shown.lower())
        if output.as_json:
            output.show_record(roots_record(found))
        else:
            output.show(
                roots_text(found, len(every), examined, options.now(), verbose=output.verbose, drawn=output.drawn)
            )
    finish(Exit.NOTHING_AT_FAULT)


@command.command("import", short_help="Trust the root that a program's signature needs.")
@click.argument("file", metavar="FILE")
@click.option("--fingerprint", metavar="SHA256", help="The root's, as its owner read it out; otherwise you type it.")
@click.option("--issuer", multiple=True, metavar="FILE", help="Certificates to build the chain with, the root's too.")
@click.option("--rehearse", "only_rehearse", is_flag=True, help="Show what would be done; change nothing.")
@click.option("--yes", is_flag=True, help="With --fingerprint: import it without asking.")
@options.machine_options
@options.output_options
def import_(
    file: str,
    *,
    fingerprint: str | None,
    issuer: tuple[str, ...],
    only_rehearse: bool,
    yes: bool,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Trust the root certificate in which the chain of FILE ends: a signed program, or a file of certificates.

    \b
    fundamen roots import setup.exe --issuer ardvane-root.cer
    """  # noqa: D301
    with output:
        examined = machine()
        journal = journal_of(examined, options.home())
        require_ready(examined, journal)
        desk = Desk(examined, journal, output, Consent(only_rehearse, yes))
        status = import_root_of(desk, find_program(examined, file), fingerprint, issuer)
    finish(status)


@command.command("remove", short_help="Trust a root no longer.")
@click.argument("root", metavar="ROOT")
@click.option("--rehearse", "only_rehearse", is_flag=True, help="Show what would be done; change nothing.")
@click.option("--yes", is_flag=True, help="Remove it without asking.")
@options.machine_options
@options.output_options
def remove(root: str, *, only_rehearse: bool, yes: bool, machine: Callable[[], Machine], output: Output) -> None:
    """Take ROOT out of the machine's store: the beginning of its fingerprint (8 digits or more), or its name.

    \b
    fundamen roots remove '3f2a 90c1 17be' --rehearse
    """  # noqa: D301
    with output:
        examined = machine()
        journal = journal_of(examined, options.home())
        require_ready(examined, journal)
        status = remove_root_of(Desk(examined, journal, output, Consent(only_rehearse, yes)), root)
    finish(status)
