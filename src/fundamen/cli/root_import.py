"""``fundamen restore --import-root``: rehearse, have the fingerprint typed, carry out, prove."""

import click
import msgspec

from fundamen.cli import options
from fundamen.cli.authorities import given_certificates
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.execution.home import kept_bytes
from fundamen.execution.journal import Journal
from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.report.contracts.restoring import RestoreState, root_import_record
from fundamen.report.root_text import root_import_text, root_rehearsal_text
from fundamen.restore.root_import import RootImport, perform_root_import, rehearse_root_import, require_fingerprint
from fundamen.trace.certificates import chain_of
from fundamen.trust.chain import Chain, Issuers


class Asked(msgspec.Struct, frozen=True):
    """What the options of the command say."""

    fingerprint: str | None
    issuer: tuple[str, ...]
    only_rehearse: bool
    yes: bool


def import_root_of(machine: Machine, path: MachinePath, asked: Asked, journal: Journal, output: Output) -> Exit:
    """Import the root in which a file's chain ends, if that makes the chain hold, and give the exit status.

    Raises:
        FundamenError: as its steps raise.
    """
    now = options.now()
    given = given_certificates(asked.issuer, now).issuers(machine)

    def judge(issuers: Issuers) -> Chain | None:
        return chain_of(machine, path, issuers, now)

    planned = rehearse_root_import(machine, path, judge, given, lambda data: kept_bytes(options.home(), data), now)
    if planned is not None and not output.as_json:
        output.show(root_rehearsal_text(planned, machine, drawn=output.drawn))
    state = _state(planned, asked, output)
    if planned is not None and state == "restored":
        with output.progress(len(planned.work.steps), "Importing") as progress:
            planned = perform_root_import(machine, planned, judge, journal, now, progress)
    if output.as_json:
        output.show_record(root_import_record(path, planned, state))
    else:
        output.show(root_import_text(path, planned, state, machine, asked.issuer, drawn=output.drawn))
    is_well = planned is None or (planned.proof is not None and planned.proof.holds)
    return Exit.NOTHING_AT_FAULT if is_well else Exit.FAULT_FOUND


def _state(planned: RootImport | None, asked: Asked, output: Output) -> RestoreState:
    if planned is None:
        return "not needed"
    if asked.fingerprint is not None:
        require_fingerprint(planned.root, asked.fingerprint)
    if asked.only_rehearse:
        return "rehearsed"
    if asked.fingerprint is None:
        typed = _typed(output)
        if not typed:
            return "declined"
        require_fingerprint(planned.root, typed)
        return "restored"
    return "restored" if asked.yes or output.agreed("\nThe fingerprint is right. Import the root?") else "declined"


def _typed(output: Output) -> str:
    """What is typed as the fingerprint; nothing where nobody can type."""
    if output.as_json or output.quiet:
        return ""
    try:
        text = "\nType the root's SHA-256 fingerprint, as its owner read it out to you (empty: do not import)\n"
        typed: str = click.prompt(text, default="", show_default=False, prompt_suffix="> ", err=True)
    except click.Abort:
        click.echo("", err=True)
        return ""
    return typed
