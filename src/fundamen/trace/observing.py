"""Choose how a program can be watched as it runs: under its own loader on this host, or under wine in a prefix."""

import os
from collections.abc import Callable, Mapping

import msgspec

from fundamen.machine.machine import Machine
from fundamen.machine.observation import Observation
from fundamen.messages import say
from fundamen.model.paths import MachinePath


class PreparedRun(msgspec.Struct, frozen=True):
    """A run that could begin now."""

    under: str  # what runs the program, in words that follow its name
    start: Callable[[], Observation]


def prepare(
    machine: Machine, program: MachinePath, seconds: float, environment: Mapping[str, str], folder: str
) -> PreparedRun:
    """Make sure that a program can be run and watched; nothing is run yet.

    Args:
        machine: whose program it is.
        program: its path.
        seconds: after which it is stopped.
        environment: that it is run in.
        folder: that a program of this host is run in; one of a prefix is run in its own.

    Raises:
        UsageError: it cannot be run here.
        UnreadableError: it is no program that can be read.
    """
    if machine.is_prefix:
        from fundamen.trace import observing_prefix as prefix  # noqa: PLC0415 - one of two

        place = prefix.require_observable(machine, program, seconds)
        wine = prefix.find_wine(environment.get("PATH", os.defpath))
        return PreparedRun(
            under=say("trace.under", name=wine.version.partition(" ")[0]),
            start=lambda: prefix.observe(machine.root, (program, place), wine, environment, seconds),
        )
    from fundamen.trace import observing_linux as linux  # noqa: PLC0415 - the other

    place = linux.require_observable(machine, program, seconds)
    return PreparedRun("here", lambda: linux.observe(place, environment, folder, seconds))
