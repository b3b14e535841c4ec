"""The fault-injection harness: the built command, killed or failing at one of its changing system calls.

A process is started once with the shim preloaded and the command's modules loaded; for each run it forks, arms the shim
and runs the command in its own world. So a run costs some hundredths of a second, and hundreds of points can be tried.
"""

import atexit
import json
import os
import shutil
import subprocess
import sys
import tempfile
from enum import IntEnum
from functools import cache
from pathlib import Path
from typing import NamedTuple

import pytest

_HERE = Path(__file__).parent


class Mode(IntEnum):
    """Actions at the chosen call."""

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
    """The process that forks, for one world."""

    def __init__(self, folder: Path, home: Path, path: str = "/usr/bin:/bin") -> None:
        """Begin.

        Args:
            folder: where what a run says is written.
            home: where the command keeps its state.
            path: where it finds programs.
        """
        self._process, self._log = _server(), folder / "said"
        self._environment = {"FUNDAMEN_HOME": str(home), "PATH": path, "HOME": str(folder)}

    def run(
        self,
        *words: str,
        mode: Mode = Mode.COUNT,
        at: int = 0,
        code: int = 0,
        log: Path | None = None,
    ) -> Outcome:
        """Run the command with a fault at its at-th changing call.

        With a log every change is written down (``faults.disk``).
        """
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        request = {"words": words, "mode": mode, "at": at, "code": code, "log": str(log or "")}
        request |= {"said": str(self._log), "environment": self._environment}
        self._process.stdin.write(json.dumps(request) + "\n")
        self._process.stdin.flush()
        status, calls = json.loads(self._process.stdout.readline())
        said = self._log.read_text(errors="replace") if self._log.exists() else ""
        return Outcome(status, calls, said)


@cache
def _server() -> "subprocess.Popen[str]":
    """The process of this run of the tests; skipped where there is no compiler."""
    compiler = shutil.which("cc") or shutil.which("gcc")
    if compiler is None or sys.platform != "linux":
        pytest.skip("no C compiler, or not on Linux")
    shim = Path(tempfile.mkdtemp()) / "shim.so"
    command = [compiler, "-shared", "-fPIC", "-O1", str(_HERE / "shim.c"), "-o", str(shim), "-ldl"]
    subprocess.run(command, check=True, capture_output=True)
    server = [sys.executable, "-B", str(_HERE / "server.py"), str(shim)]
    environment = {
        "LD_PRELOAD": str(shim),
        "PATH": "/usr/bin:/bin",
        "PYTHONPATH": os.pathsep.join((str(_HERE.parent), os.environ.get("PYTHONPATH", ""))),
    }
    process = subprocess.Popen(server, stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=environment, text=True)
    atexit.register(_end, process, shim.parent)
    return process


def _end(process: "subprocess.Popen[str]", folder: Path) -> None:
    process.communicate()
    shutil.rmtree(folder)
