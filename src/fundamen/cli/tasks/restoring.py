"""From what was prepared to what came of it: consent, progress, proof. Every restoration goes this way."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import msgspec

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.output import Output
from fundamen.cli.stopping import stoppable
from fundamen.execution.journal import Journal
from fundamen.machine.machine import Machine
from fundamen.report.contracts.restoring import RestoreState
from fundamen.restore.restoration import Found, Prepared, Restoration, perform

if TYPE_CHECKING:
    from fundamen.changes.base import Password


class Consent(msgspec.Struct, frozen=True):
    """Consent to a change, as the options give it."""

    only_rehearse: bool
    yes: bool

    def ask(self, output: Output, question: str = "Carry this out?") -> bool:
        """Ask for it, unless it is given already."""
        return self.yes or output.ask_consent(f"\n{question}")


class Desk(msgspec.Struct, frozen=True):
    """With what a command works."""

    machine: Machine
    journal: Journal
    output: Output
    consent: Consent
    password: "Password | None" = None  # of a directory


def carried_through(
    desk: Desk,
    prepared: Prepared[Found],
    agreed: Callable[[], bool] | None = None,
    *,
    verb: str = "Restoring",
    settle: Callable[[], None] | None = None,
    waiting: str = "",
) -> tuple[Restoration[Found], RestoreState]:
    """Perform it after consent.

    Args:
        desk: with what the command works.
        prepared: what is to be done.
        agreed: asks for consent, where it is asked for in another way.
        verb: what is done, for the progress.
        settle: as for ``perform``.
        waiting: likewise.

    Raises:
        FundamenError: as ``perform`` raises.
    """
    state = _state(desk, prepared, agreed)
    if state != "restored":
        return Restoration(prepared=prepared), state
    output = desk.output
    with output.progress(len(prepared.work.steps), verb) as progress, stoppable(output) as stop:
        restoration = perform(
            desk.machine,
            prepared,
            desk.journal,
            options.now(),
            progress,
            stop,
            settle=settle,
            waiting=waiting,
            tell=output.note,
        )
    output.expect_second_answer()
    return restoration, state


def exit_after(restoration: Restoration[Found]) -> Exit:
    """The exit status after a restoration."""
    return Exit.NOTHING_AT_FAULT if restoration.is_well else Exit.FAULT_FOUND


def _state(desk: Desk, prepared: Prepared[Found], agreed: Callable[[], bool] | None) -> RestoreState:
    if not prepared.is_needed:
        return "not needed"
    if not prepared.is_offered:
        return "no remedy"
    if desk.consent.only_rehearse:
        return "rehearsed"
    is_agreed = agreed() if agreed is not None else desk.consent.ask(desk.output)
    return "restored" if is_agreed else "declined"
