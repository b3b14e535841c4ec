"""Lists in settings, such as PATH: exactly one entry of a name, in its place."""

from typing import Protocol

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath


class ListEntry(Protocol):
    """A wanted state of one entry of a list."""

    @property
    def entry(self) -> str:
        """The entry of which there is to be exactly one, or none."""

    @property
    def place(self) -> str:
        """Where: ``first``, ``last`` or ``nowhere``."""

    @property
    def without_dead(self) -> bool:
        """Whether entries that lead to no folder go as well."""


def list_with(machine: Machine, step: ListEntry, held: str, separator: str) -> str:
    """The list with exactly one such entry, or none; what else is in it keeps its order."""
    entries = held.split(separator) if held else []
    kept = [each for each in entries if not _is_same(machine, each, step.entry)]
    if step.without_dead:
        kept = [each for each in kept if _leads_to_folder(machine, each)]
    own = [] if step.place == "nowhere" else [step.entry]
    return separator.join([*own, *kept] if step.place == "first" else [*kept, *own])


def _is_same(machine: Machine, one: str, other: str) -> bool:
    ends = "/\\" if machine.platform is Platform.WINDOWS else "/"
    return machine.fold(one.rstrip(ends)) == machine.fold(other.rstrip(ends))


def _leads_to_folder(machine: Machine, entry: str) -> bool:
    if not entry.startswith("/") and entry[1:2] != ":":
        return True  # what a variable or the current folder makes of it is not known here
    return machine.look(MachinePath(entry)).kind is EntryKind.FOLDER
