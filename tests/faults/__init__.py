"""The fault-injection harness: the built command, killed or failing at one of its changing system calls.

A process is started once with the shim preloaded and the command's modules loaded; for each run it forks, arms the shim
and runs the command. So a run costs some hundredths of a second, and hundreds of points can be tried.
"""

import json
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from enum import IntEnum
from pathlib import Path
from typing import NamedTuple

import pytest

_HERE = Path(__file__).parent


class Mode(IntEnum):
    """What happens at the chosen call."""

    COUNT = 1  # nothing: calls are counted
    KILL = 2
    FAIL_ONCE = 3
    FAIL_ON = 4  # it, and all after it


class Outcome(NamedTuple):
    """How a run ended."""

    status: int  # negative: the signal that killed it
    calls: int  # how many changing calls it made; only of a run that ended by itself
    said: str


class Faults:
    """The process that forks."""

    def __init__(self, process: "subprocess.Popen[str]", log: Path) -> None:
        self._process, self._log = process, log

    def run(
        self,
        *words: str,
        mode: Mode = Mode.COUNT,
        at: int = 0,
        code: int = 0,
        is_warming: bool = False,
        log: Path | None = None,
    ) -> Outcome:
        """Run the command with a fault at its at-th changing call; or once in the process itself, to warm it.

        With a log every change is written down (``faults.disk``).
        """
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        request = {"words": words, "mode": mode, "at": at, "code": code, "is_warming": is_warming}
        request["log"] = str(log or "")
        self._process.stdin.write(json.dumps(request) + "\n")
        self._process.stdin.flush()
        status, calls = json.loads(self._process.stdout.readline())
        said = self._log.read_text(errors="replace") if self._log.exists() else ""
        return Outcome(status, calls, said)


@contextmanager
def injecting(folder: Path, home: Path, path: str = "/usr/bin:/bin") -> Iterator[Faults]:
    """Start the process; skipped where there is no compiler."""
    compiler = shutil.which("cc") or shutil.which("gcc")
    if compiler is None or sys.platform != "linux":
        pytest.skip("no C compiler, or not on Linux")
    shim, log = folder / "shim.so", folder / "said"
    command = [compiler, "-shared", "-fPIC", "-O1", str(_HERE / "shim.c"), "-o", str(shim), "-ldl"]
    subprocess.run(command, check=True, capture_output=True)
    environment = {"LD_PRELOAD": str(shim), "FUNDAMEN_HOME": str(home), "PATH": path, "HOME": str(folder)}
    server = [sys.executable, "-B", str(_HERE / "server.py"), str(shim), str(log)]
    with subprocess.Popen(server, stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=environment, text=True) as process:
        yield Faults(process, log)
        assert process.stdin is not None
        process.stdin.close()
