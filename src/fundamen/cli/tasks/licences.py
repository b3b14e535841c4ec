"""Licences: show a text, ask, and record that it was accepted; never without the user's consent to that very text."""

import hashlib

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.machine.machine import Machine
from fundamen.model.display import shown_lines
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.acceptance import RecordedAcceptance, read_acceptances, record_acceptance
from fundamen.prerequisites.requirement import MOST_BYTES


def accepted_digests() -> frozenset[str]:
    """The SHA-256 of each text that was accepted."""
    return frozenset(each.sha256 for each in read_acceptances(options.home()))


def ask_to_accept(machine: Machine, path: MachinePath, output: Output) -> Exit:
    """Show a licence's text, and record that it was accepted, if it is. Raises: UnreadableError."""
    content = machine.content(path, MOST_BYTES)
    digest = hashlib.sha256(content).hexdigest()
    click.echo(_shown_text(content), err=True)
    if not output.ask_consent(f"Do you accept this text (SHA-256 {digest[:16]}...)?"):
        output.note("Nothing was recorded: it was not accepted.")
        return Exit.FAULT_FOUND
    record_acceptance(options.home(), RecordedAcceptance(digest, path, options.now()))
    output.note(f"Recorded: you accepted {path}.")
    return Exit.NOTHING_AT_FAULT


def _shown_text(content: bytes) -> str:
    """A text for a terminal, its lines kept."""
    return shown_lines(content.decode("utf-8", "replace").replace("\r\n", "\n"))
