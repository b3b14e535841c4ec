"""The step that takes a cold copy of a folder, before anything else of its restoration is done."""

from fundamen.changes.form import Form, PlanResolution, unfit
from fundamen.machine.machine import EntryKind
from fundamen.messages import say
from fundamen.model.paths import MachinePath


class TakeColdCopy(Form, frozen=True, kw_only=True, tag="take cold copy"):
    """A compressed copy of a folder is taken, before anything else is done."""

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        folder = resolving.machine.real(MachinePath(self.path))
        if resolving.machine.look(folder).kind is not EntryKind.FOLDER:
            raise unfit(folder, say("changes.there-is-no-folder-to-make"))
        resolving.copies.append(folder)
