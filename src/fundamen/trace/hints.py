"""Find help for the next step once the faults are known: packages, copies, PATH. None of it changes a verdict."""

from collections.abc import Sequence

from fundamen.evidence.authority import Authority
from fundamen.machine.machine import Machine
from fundamen.trace.records import Trace


def with_hints(machine: Machine, trace: Trace, authorities: Sequence[Authority], named: str) -> Trace:
    """The trace, with what there is to say besides.

    Args:
        machine: where the program lies.
        trace: of the program.
        authorities: who may vouch for copies that are found elsewhere.
        named: how the program was named; a bare name was looked up on this host's PATH.
    """
    if trace.faults:
        from fundamen.trace.bringing import with_bringers  # noqa: PLC0415 - only where something is missing
        from fundamen.trace.copies import with_copies  # noqa: PLC0415 - likewise

        trace = with_copies(machine, with_bringers(machine, trace), authorities)
    if machine.is_live and machine.paths.basename(named) == named:
        from fundamen.trace.path_remarks import with_path_remarks  # noqa: PLC0415 - only for a bare name

        trace = with_path_remarks(machine, trace, named)
    return trace
