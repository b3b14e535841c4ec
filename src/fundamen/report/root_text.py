"""The import of a root certificate as text: what would be done, what was done, and the way back."""

from collections.abc import Sequence

from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.report.commands import command, import_command
from fundamen.report.contracts.restoring import RestoreState
from fundamen.report.page import Page
from fundamen.report.trust_text import add_chain
from fundamen.restore.root_import import RootImport
from fundamen.trust.fingerprint import grouped


def root_rehearsal_text(planned: RootImport, machine: Machine, *, drawn: bool) -> str:
    """The page on which the fingerprint is asked for. It is not on it: whoever reads it off there checks nothing."""
    page = Page(drawn=drawn)
    name = machine.paths.basename(planned.path)
    outcome = (
        "its chain then holds" if planned.after.holds else f"even then it would not be trusted: {planned.after.why}"
    )
    page.answer(
        f"The root {planned.root.subject.shown} would be imported for {name}; {outcome}.", good=planned.after.holds
    )
    page.heading("The root certificate")
    page.field("whole name", planned.root.subject.whole, indent=2)
    page.field("valid", f"{planned.root.not_before:%Y-%m-%d} to {planned.root.not_after:%Y-%m-%d}", indent=2)
    page.field("key", planned.root.key, indent=2)
    page.field("found in", planned.before.links[-1].where, indent=2)
    page.heading("What would be written: the machine's store, not that of a user")
    for step in planned.work.steps:
        page.field("change" if step.replaces else "write", f"{step.path}   ({step.because})", indent=2)
    return page.text()


def root_import_text(
    path: MachinePath,
    planned: RootImport | None,
    state: RestoreState,
    machine: Machine,
    issuers: Sequence[str],
    *,
    drawn: bool,
) -> str:
    """The page after an import, or after it was rehearsed or declined."""
    page = Page(drawn=drawn)
    name = machine.paths.basename(path)
    if planned is None:
        page.answer(f"Nothing is to be imported: the chain of {name} holds on this machine.", good=True)
        return page.text()
    if planned.proof is None or planned.number is None:
        page.heading("Next")
        if state == "declined":
            page.line("Nothing was imported. Have the fingerprint read out by the root's owner, then:")
        page.raw(import_command(machine, planned.path, issuers))
        return page.text()
    page.blank()
    page.answer(
        f"Imported: the machine trusts {planned.root.subject.shown}."
        + (f" The chain of {name} holds." if planned.proof.holds else f" But {planned.proof.why}."),
        good=planned.proof.holds,
    )
    page.line(f"SHA-256 {grouped(planned.root.sha256)}", 0)
    page.heading("The chain now, from the root down")
    add_chain(page, planned.proof, "")
    page.heading("Next")
    page.line("Programs that run already keep the old list: start the installer anew, from its beginning.")
    page.heading("To take it back")
    page.raw(command(machine, "undo", str(planned.number)))
    return page.text()
