"""Load a program as Windows would: the image loader, and for managed code the runtime that it continues with."""

from collections.abc import Sequence

from fundamen.formats.windows.pe import Pe
from fundamen.loaders.load_map import LoadMap
from fundamen.loaders.windows_loading import Loading, runtime_config_of
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.binary import BinaryKind, Necessity
from fundamen.model.paths import MachinePath


def load_map(machine: Machine, program: MachinePath, pe: Pe, also: Sequence[str] = ()) -> LoadMap:
    """Do for a program what the image loader would do and, for managed code, what its runtime would; nothing is run."""
    loading = Loading(machine, program, pe)
    if pe.kind is BinaryKind.PROGRAM and not loading.processes.runs(loading.architecture):
        return loading.load_map()  # no process is made, so nothing is looked for
    if is_managed_start(machine, program, pe):
        from fundamen.loaders import managed  # noqa: PLC0415 - only where a program calls for it

        managed.load(loading)
    else:
        loading.take(program, pe)
    loading.run()
    for name in also:
        loading.need(name, Necessity.DELAYED, program)
    loading.run()
    return loading.load_map()


def is_managed_start(machine: Machine, program: MachinePath, pe: Pe) -> bool:
    """Whether a program is managed itself, or one that only starts the managed code beside it."""
    return pe.is_managed or machine.look(runtime_config_of(machine, program)).kind is EntryKind.FILE
