"""Trusted roots as text: the list, what an import or removal would do, what was done, and the way back."""

from collections import Counter
from collections.abc import Sequence
from datetime import datetime

from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.report.commands import command, import_command
from fundamen.report.contracts.restoring import RestoreState
from fundamen.report.examining.trust_text import add_chain
from fundamen.report.page import Page, count_of, shorten
from fundamen.restore.restoration import Prepared, Restoration
from fundamen.restore.root_import import RootImport, Trusted
from fundamen.trust.certificate import Certificate
from fundamen.trust.chain import Chain
from fundamen.trust.fingerprint import group_digits

_LONGEST_NAME = 54  # characters in a table


def root_rehearsal_text(planned: RootImport, machine: Machine, *, drawn: bool) -> str:
    """The page on which the fingerprint is asked for. It is not on it: reading it off there would check nothing."""
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
    page.heading("Changes to the machine's store, which no user's store is part of")
    for step in planned.prepared.work.steps:
        page.field("change" if step.replaces else "write", f"{step.path}   ({step.because})", indent=2)
    return page.text()


def roots_text(
    roots: Sequence[tuple[Certificate, Sequence[str]]],
    count: int,
    machine: Machine,
    now: datetime,
    *,
    verbose: bool,
    drawn: bool,
) -> str:
    """The page of the roots that a machine trusts, or of those among all of them that were looked for."""
    page = Page(drawn=drawn)
    expired = sum(root.not_after < now for root, _ in roots)
    expiry = f"; {expired} of them {'has' if expired == 1 else 'have'} expired" if expired else ""
    found = f", and {len(roots)} of them fit" if len(roots) < count else ""
    subject = machine.title[:1].upper() + machine.title[1:]
    page.answer(f"{subject} trusts {count_of(count, 'root certificate')}{found}{expiry}.")
    if not roots:
        return page.text()
    page.blank()
    names = Counter(root.subject.shown for root, _ in roots)
    rows = [
        (
            root.subject.shown if names[root.subject.shown] == 1 else shorten(root.subject.whole, _LONGEST_NAME),
            f"{root.not_after:%Y-%m-%d}",
            group_digits(root.sha256 if verbose else root.sha256[:16]),
        )
        for root, _ in roots
    ]
    if verbose:
        for (name, until, digits), (_, where) in zip(rows, roots, strict=True):
            page.line(name)
            page.field("valid until", until)
            page.field("SHA-256", digits)
            page.field("lies in", "; ".join(where))
    else:
        page.columns(rows, ("root", "valid until", "SHA-256 begins with"))
    return page.text()


def root_removal_text(root: Certificate, prepared: Prepared[Trusted], machine: Machine, *, drawn: bool) -> str:
    """The page on which consent to a removal is asked for."""
    page = Page(drawn=drawn)
    page.answer(f"The root {root.subject.shown} would be removed: {machine.title} trusts it then no longer.")
    page.heading("The root certificate")
    page.field("whole name", root.subject.whole, indent=2)
    page.field("valid", f"{root.not_before:%Y-%m-%d} to {root.not_after:%Y-%m-%d}", indent=2)
    page.field("SHA-256", group_digits(root.sha256), indent=2)
    page.field("lies in", "; ".join(prepared.before.where), indent=2)
    page.heading("Changes")
    for step in prepared.work.steps:
        page.field(step.verb, str(step.path), indent=2)
    page.line("Programs and servers whose chains end in this root are not trusted any more then.")
    return page.text()


def root_removed_text(
    root: Certificate, restoration: Restoration[Trusted], state: RestoreState, machine: Machine, *, drawn: bool
) -> str:
    """The page after a removal, or after it was rehearsed or declined."""
    page = Page(drawn=drawn)
    proof = restoration.proof
    if proof is None:
        page.heading("Next")
        page.line("Nothing was removed." if state == "declined" else "Nothing was changed. To remove it:")
        page.raw(command(machine, "roots", "remove", root.sha256[:16]))
        return page.text()
    page.blank()
    rest = f" But it still lies in {'; '.join(proof.where)}." if proof.where else ""
    page.answer(f"Removed: the root {root.subject.shown}.{rest}", good=not proof.where)
    page.heading("Next")
    page.line("Running programs keep the old list until they are started again.")
    page.heading("To undo it")
    page.raw(command(machine, "undo", str(restoration.number)))
    return page.text()


def nothing_to_import_text(path: MachinePath, machine: Machine, *, drawn: bool) -> str:
    """The page where a chain holds already."""
    page = Page(drawn=drawn)
    name = machine.paths.basename(path)
    page.answer(f"There is nothing to import: the chain of {name} holds on this machine.", good=True)
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
    page.line(f"SHA-256 {group_digits(planned.root.sha256)}", 0)
    page.heading("The chain now, from the root down")
    add_chain(page, proof, "")
    page.heading("Next")
    page.line("Running programs keep the old list: start the installer again, from its beginning.")
    page.heading("To undo it")
    page.raw(command(machine, "undo", str(restoration.number)))
    return page.text()
