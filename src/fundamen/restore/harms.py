"""Dependencies that a restoration would take from other programs."""

from collections.abc import Iterable, Iterator, Sequence

import msgspec

from fundamen.evidence.authority import Authority
from fundamen.machine.machine import Machine
from fundamen.messages import Message, as_said
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trace.trace import trace_program


class Harm(msgspec.Struct, frozen=True):
    """The loss of another program."""

    program: MachinePath
    name: str  # of the component
    reason: Message


def find_harms(
    machine: Machine, overlay: Machine, others: Iterable[MachinePath], authorities: Sequence[Authority]
) -> Iterator[Harm]:
    """Find the losses of other programs on a machine as it would be, compared with now.

    A program that was removed or cannot be read now cannot get worse.
    """
    for program in others:
        try:
            known = {fault.name for fault in trace_program(machine, program, authorities).faults}
        except UnreadableError:
            continue
        try:
            faults = trace_program(overlay, program, authorities).faults
        except UnreadableError as error:
            yield Harm(program, program, error.why)
            continue
        for fault in faults:
            if fault.name not in known:
                yield Harm(program, fault.name, fault.reason or as_said(fault.verdict))
