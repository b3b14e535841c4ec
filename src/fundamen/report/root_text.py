"""The import of a root certificate as text: what would be done, what was done, and the way back."""

from collections.abc import Sequence

from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.report.commands import command, import_command
from fundamen.report.contracts.restoring import RestoreState
from fundamen.report.page import Page
from fundamen.report.trust_text import add_chain
from fundamen.restore.restoration import Restoration
from fundamen.restore.root_import import RootImport
from fundamen.trust.chain import Chain
from fundamen.trust.fingerprint import grouped


def root_rehearsal_text(planned: RootImport, machine: Machine, *, drawn: bool) -> str:
    """The page on which the fingerprint is asked for. It is not on it: whoever reads it off there checks nothing."""
    page = Page(drawn=drawn)
    name, after = machine.paths.basename(planned.prepared.work.program), planned.prepared.rehearsed
    is_well = after is not None and after.holds
    outcome = "its chain then holds" if after is None or is_well else f"even then it would not be trusted: {after.why}"
    page.answer(f"The root {planned.root.subject.shown} would be imported for {name}; {outcome}.", good=is_well)
    page.heading("The root certificate")
    page.field("whole name", planned.root.subject.whole, indent=2)
    page.field("valid", f"{planned.root.not_before:%Y-%m-%d} to {planned.root.not_after:%Y-%m-%d}", indent=2)
    page.field("key", planned.root.key, indent=2)
    page.field("found in", planned.prepared.before.links[-1].where, indent=2)
    page.heading("What would be written: the machine's store, not that of a user")
    for step in planned.prepared.work.steps:
        page.field("change" if step.replaces else "write", f"{step.path}   ({step.because})", indent=2)
    return page.text()


def nothing_to_import_text(path: MachinePath, machine: Machine, *, drawn: bool) -> str:
    """The page where a chain holds already."""
    page = Page(drawn=drawn)
    name = machine.paths.basename(path)
    page.answer(f"Nothing is to be imported: the chain of {name} holds on this machine.", good=True)
    return page.text()


def root_import_text(
    planned: RootImport,
    restoration: Restoration[Chain],
    state: RestoreState,
    machine: Machine,
    issuers: Sequence[str],
    *,
    drawn: bool,
) -> str:
    """The page after an import, or after it was rehearsed or declined."""
    page = Page(drawn=drawn)
    path, proof = planned.prepared.work.program, restoration.proof
    if proof is None:
        page.heading("Next")
        if state == "declined":
            page.line("Nothing was imported. Have the fingerprint read out by the root's owner, then:")
        page.raw(import_command(machine, path, issuers))
        return page.text()
    page.blank()
    page.answer(
        f"Imported: the machine trusts {planned.root.subject.shown}."
        + (f" The chain of {machine.paths.basename(path)} holds." if proof.holds else f" But {proof.why}."),
        good=proof.holds,
    )
    page.line(f"SHA-256 {grouped(planned.root.sha256)}", 0)
    page.heading("The chain now, from the root down")
    add_chain(page, proof, "")
    page.heading("Next")
    page.line("Programs that run already keep the old list: start the installer anew, from its beginning.")
    page.heading("To take it back")
    page.raw(command(machine, "undo", str(restoration.number)))
    return page.text()
