"""Import and remove roots: rehearse, have the fingerprint typed, perform, prove."""

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.cli.tasks.authorities import given_certificates
from fundamen.cli.tasks.restoring import Desk, carried_through, exit_after
from fundamen.execution.home import kept_bytes
from fundamen.model.paths import MachinePath
from fundamen.report.contracts.restoring import nothing_needed, restore_record
from fundamen.report.repairing.root_text import (
    nothing_to_import_text,
    root_import_text,
    root_rehearsal_text,
    root_removal_text,
    root_removed_text,
)
from fundamen.restore.root_import import choose_root, prepare_root_import, prepare_root_removal, require_fingerprint
from fundamen.trace.certificates import chain_of
from fundamen.trust.chain import Chain, Issuers


def import_root_of(desk: Desk, path: MachinePath, fingerprint: str | None, issuer: tuple[str, ...]) -> Exit:
    """Import the root in which a file's chain ends, if that makes the chain hold, and give the exit status.

    Raises:
        FundamenError: as its steps raise.
    """
    machine, output, now = desk.machine, desk.output, options.now()
    given = given_certificates(issuer, now).issuers(machine)

    def judge(issuers: Issuers) -> Chain | None:
        return chain_of(machine, path, issuers, now)

    planned = prepare_root_import(machine, path, judge, given, lambda data: kept_bytes(options.home(), data), now)
    if planned is None:
        if output.as_json:
            output.show_record(nothing_needed(path))
        else:
            output.show(nothing_to_import_text(path, machine, drawn=output.drawn))
        return Exit.NOTHING_AT_FAULT
    if not output.as_json:
        output.show(root_rehearsal_text(planned, machine, drawn=output.drawn))
    if fingerprint is not None:
        require_fingerprint(planned.root, fingerprint)

    def ask_to_trust() -> bool:
        if fingerprint is not None:
            return desk.consent.ask(output, "The fingerprint is right. Import the root?")
        typed = _ask_fingerprint(output)
        if typed:
            require_fingerprint(planned.root, typed)
        return bool(typed)

    restoration, state = carried_through(desk, planned.prepared, ask_to_trust, verb="Importing")
    if output.as_json:
        output.show_record(restore_record(restoration, state))
    else:
        output.show(root_import_text(planned, restoration, state, machine, issuer, drawn=output.drawn))
    return exit_after(restoration)


def remove_root_of(desk: Desk, named: str) -> Exit:
    """Remove a root after consent, and give the exit status. Raises: FundamenError: as its steps raise."""
    machine, output = desk.machine, desk.output
    root = choose_root(machine, named)
    prepared = prepare_root_removal(machine, root, lambda data: kept_bytes(options.home(), data))
    if not output.as_json:
        output.show(root_removal_text(root, prepared, machine, drawn=output.drawn))
    restoration, state = carried_through(desk, prepared, verb="Removing")
    if output.as_json:
        output.show_record(restore_record(restoration, state))
    else:
        output.show(root_removed_text(root, restoration, state, machine, drawn=output.drawn))
    return exit_after(restoration)


def _ask_fingerprint(output: Output) -> str:
    """The typed fingerprint; empty where no one can type."""
    if output.as_json or output.quiet:
        return ""
    try:
        text = "\nType the root's SHA-256 fingerprint, as its owner read it out to you (empty: do not import)\n"
        typed: str = click.prompt(text, default="", show_default=False, prompt_suffix="> ", err=True)
    except click.Abort:
        click.echo("", err=True)
        return ""
    return typed
