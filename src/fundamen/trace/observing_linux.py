"""Run a program of this very host, and collect what its loader loads and is asked for in vain.

Guarantees: the run ends within its time, and nothing that it started goes on after it. The loader writes of its work
into files of our own (LD_DEBUG_OUTPUT), one a process, so that the program's streams stay as they are.
"""

import os
import signal
import tempfile
from collections.abc import Iterator, Mapping

from fundamen.formats.unix.elf import Elf
from fundamen.formats.unix.ld_debug import LdDebug, read_ld_debug
from fundamen.machine.machine import Machine
from fundamen.machine.observation import Observation
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.trace.running import MOST_OUTPUT, Marked, require_time

_MOST_BYTES = 64 << 20  # of what the loader writes, over all processes
_MOST_PROCESSES = 500


def require_observable(machine: Machine, program: MachinePath, seconds: float) -> HostPath:
    """Make sure that a program can be run and watched here, and give its place on this host.

    Raises:
        UsageError: it is not of this host, is started by no loader that can be watched, or is given no time.
        UnreadableError: it is no program that can be read.
    """
    require_time(seconds)
    if not machine.is_live or machine.platform is not Platform.LINUX:
        raise UsageError(
            what=say("trace.cannot-be-observed", program=printable(program)),
            why=say("trace.it-belongs-to-only-programs-of", title=machine.title),
            do=say("trace.trace-it-without-observe-or-name"),
        )
    elf = machine.binary(program)
    interpreter = elf.interpreter if isinstance(elf, Elf) else None
    if interpreter is None or "/ld-musl-" in interpreter:
        started = say("trace.by-which", interpreter=interpreter) if interpreter else say("trace.without-a-loader-which")
        raise UsageError(
            what=say("trace.cannot-be-observed", program=printable(program)),
            why=say("trace.it-is-started-tells-nothing-of", started=started),
            do=say("trace.trace-it-without-observe"),
        )
    return machine.host_path(program)


def observe(program: HostPath, environment: Mapping[str, str], folder: str, seconds: float) -> Observation:
    """Run a program in a folder, and tell what happened.

    Raises:
        UnreadableError: it cannot be started.
    """
    with tempfile.TemporaryDirectory(prefix="fundamen-") as notes:
        watched = {"LD_DEBUG": "files,libs", "LD_DEBUG_OUTPUT": os.path.join(notes, "process")}
        marked = Marked({**environment, **watched})
        output = bytearray()
        try:
            status, took = marked.run(
                [program], folder, seconds, lambda data: output.extend(data[: MOST_OUTPUT - len(output)])
            )
        finally:
            marked.end(lambda _pid: signal.SIGKILL)
        seen = list(_read(notes))
    failed = {asked.name: None for process in seen for asked in process.in_vain}
    return Observation(
        by="this host",
        status=status,
        seconds=took,
        loaded=tuple(
            dict.fromkeys(MachinePath(path) for process in seen for path in process.loaded if path[:1] == "/")
        ),
        failed=tuple(failed.items()),
        output=output.decode("utf-8", "replace"),
        is_as_before=True,
        askers=tuple({asked.name: asked.by for process in reversed(seen) for asked in process.asked}.items()),
    )


def _read(notes: str) -> Iterator[LdDebug]:
    """The loader's output for each process, the first one first."""
    left = _MOST_BYTES
    files = sorted(os.listdir(notes), key=lambda name: int(name.rpartition(".")[2]))
    for name in files[:_MOST_PROCESSES]:
        with open(os.path.join(notes, name), "rb") as file:
            data = file.read(left)
        left -= len(data)
        yield read_ld_debug(data)
