"""A real systemd in name spaces of its own: it sees this host's files, but its units are its own."""

import contextlib
import os
import signal
import subprocess
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

import pytest

# Its own units only: none that would clean, mount or start anything of this host.
_BOOT = """\
set -e
mount --make-rprivate /
for folder in /run /etc/systemd/system /usr/lib/systemd/system /usr/lib/systemd/system-generators /usr/lib/tmpfiles.d
do mount -t tmpfs tmpfs $folder; done
mkdir -p /run/systemd/system
cp "$1"/* /etc/systemd/system/
export container=other
exec /lib/systemd/systemd --system --unit=first.target --log-target=null --show-status=no
"""
_FIRST = "[Unit]\nDefaultDependencies=no\n"
_SHUTDOWN = {"shutdown.target": _FIRST, "sysinit.target": _FIRST, "basic.target": _FIRST}


class ASupervisor:
    """A systemd that runs."""

    def __init__(self, pid: int) -> None:
        self._pid = pid

    def run(self, *command: str, **environment: str) -> subprocess.CompletedProcess[str]:
        """Run a command where it is process 1."""
        words = ["nsenter", "-t", str(self._pid), "-m", "-p", "--", *command]
        return subprocess.run(
            words, env={**os.environ, **environment}, capture_output=True, text=True, timeout=120, check=False
        )

    def state(self, name: str) -> str:
        """The state of a unit by its own tool."""
        return self.run("systemctl", "is-active", name).stdout.strip()


@contextlib.contextmanager
def supervised(folder: Path, units: Mapping[str, str]) -> Iterator[ASupervisor]:
    """Have a systemd run with some units, by name, until the end of the block."""
    if subprocess.run(["unshare", "--mount", "--pid", "--fork", "true"], check=False, capture_output=True).returncode:
        pytest.skip("this account may not make name spaces")
    folder.mkdir()
    for name, text in {"first.target": _FIRST, **_SHUTDOWN, **units}.items():
        (folder / name).write_text(text)
    command = [
        "unshare",
        "--mount",
        "--pid",
        "--uts",
        "--ipc",
        "--fork",
        "--mount-proc",
        "sh",
        "-c",
        _BOOT,
        "sh",
        str(folder),
    ]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        pid = 0
        try:
            pid = _first_process(process.pid)
            supervisor = ASupervisor(pid)
            for _ in range(100):
                if supervisor.run("systemctl", "is-system-running").stdout.strip() in {"running", "degraded"}:
                    break
                time.sleep(0.1)
            yield supervisor
        finally:
            if pid:
                os.kill(pid, signal.SIGKILL)  # and with it all that it has started
            process.kill()


def _first_process(parent: int) -> int:
    children = Path(f"/proc/{parent}/task/{parent}/children")
    for _ in range(100):
        with contextlib.suppress(OSError):
            if found := children.read_text().split():
                return int(found[0])
        time.sleep(0.1)
    raise AssertionError("no process of a name space of its own came up")
