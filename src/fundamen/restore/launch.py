"""Run a restored program and tell how it ended."""

import signal
import subprocess

import msgspec

from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import MachinePath

_MOST_OUTPUT = 1 << 20  # characters that are kept


class Launch(msgspec.Struct, frozen=True):
    """How a program's run ended."""

    status: int | None  # exit status, negative for the signal that killed it; None where it was still running
    output: str  # what it wrote to both of its streams
    seconds: float  # how long it was waited for

    @property
    def worked(self) -> bool:
        """Whether it ended well, or started and kept running."""
        return self.status in {0, None}

    @property
    def outcome(self) -> Message:
        """How it ended, in words."""
        if self.status is None:
            return say("restore.it-was-still-running-after-s", seconds=self.seconds)
        if self.status < 0:
            return say("restore.it-was-killed-by", name=signal.Signals(-self.status).name)
        return say("restore.exit-status", status=self.status)


def launch(machine: Machine, program: MachinePath, arguments: tuple[str, ...], seconds: float) -> Launch:
    """Run a program of this very host.

    Raises:
        UsageError: the machine is not this host, so its programs cannot be run here.
    """
    require_launchable(machine, program)
    command = [machine.host_path(program), *arguments]
    with subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, errors="replace"
    ) as process:
        try:
            output, _ = process.communicate(timeout=seconds)
            status: int | None = process.returncode
        except subprocess.TimeoutExpired:
            process.terminate()
            try:
                output, _ = process.communicate(timeout=seconds)
            except subprocess.TimeoutExpired:
                process.kill()
                output, _ = process.communicate()
            status = None
    return Launch(status, output[:_MOST_OUTPUT], seconds)


def require_launchable(machine: Machine, program: MachinePath) -> None:
    """Make sure that the program can be run here. Raises: UsageError: it cannot."""
    if not machine.is_live:
        raise UsageError(
            what=say("restore.cannot-be-launched-from-here", program=printable(program)),
            why=say("restore.it-belongs-to", title=machine.title),
            do=say("restore.leave-launch-out-and-run-the"),
        )
