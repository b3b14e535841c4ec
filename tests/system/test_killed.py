"""The built command, really killed or really out of disk at each system call that changes something."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import ASource
from conftest import Fundamen

pytestmark = [pytest.mark.system, pytest.mark.skipif(sys.platform != "linux", reason="strace is Linux's")]

CALLS = (
    "rename,renameat,fsync,fdatasync,pwrite64,mkdir,mkdirat,unlink,unlinkat,linkat,symlinkat,fchmod,fchmodat,chmod,"
    "fchown,fchownat,utimensat"
)
FILES = {f"lib{letter}.so": an_elf(soname=f"lib{letter}.so", padding=64 * n) for n, letter in enumerate("abc")}


class World:
    """A machine with one library missing, one of another width and one cut, and the built command to restore it."""

    def __init__(self, linux: ALinuxMachine, tmp_path: Path, fundamen: Fundamen, home: Path) -> None:
        source = ASource(tmp_path, tmp_path / "unused").published(FILES)
        linux.program("/opt/bin/app", needs=tuple(FILES), runpath="$ORIGIN/../lib")
        linux.library("/opt/lib/libb.so", "x86").file("/opt/lib/libc.so", FILES["libc.so"][:150])
        self.root, self.home, self.log, self.fundamen = linux.root, home, tmp_path / "strace", fundamen
        assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
        self.before = self.tree()

    def tree(self) -> dict[str, tuple[object, ...]]:
        found: dict[str, tuple[object, ...]] = {}
        for path in self.root.rglob("*"):
            status = path.lstat()
            content = path.read_bytes() if path.is_file() else None
            found[str(path.relative_to(self.root))] = (content, status.st_mode, status.st_mtime_ns)
        return found

    def traced(self, *strace: str) -> subprocess.CompletedProcess[bytes]:
        command = [
            str(Path(sys.executable).parent / "fundamen"),
            "restore",
            "--yes",
            "--machine",
            str(self.root),
            "/opt/bin/app",
        ]
        return subprocess.run(
            ["strace", "-f", "-o", str(self.log), "-e", f"trace={CALLS}", *strace, *command],
            env={**os.environ, "FUNDAMEN_HOME": str(self.home), "PYTHONDONTWRITEBYTECODE": "1"},
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=120,
            check=False,
        )

    def count(self) -> int:
        """How many such calls one restoration makes, once everything has been fetched."""
        assert self.traced().returncode == 0
        self.undo()
        assert self.traced().returncode == 0
        calls = sum("(" in line for line in self.log.read_text().splitlines())
        self.undo()
        return calls

    def undo(self) -> None:
        ran = self.fundamen("undo", "--machine", str(self.root))
        assert ran.status == 0, ran.err
        assert self.tree() == self.before

    def cut_off(self) -> bool:
        return self.fundamen("history", "--machine", str(self.root)).status == 6


@pytest.fixture
def world(linux: ALinuxMachine, tmp_path: Path, fundamen: Fundamen, home: Path) -> World:
    return World(linux, tmp_path, fundamen, home)


def test_killed_at_any_system_call_nothing_is_lost(world: World) -> None:
    killed = seen_unfinished = 0
    for call in range(1, world.count() + 1, 4):  # each of them: tests/restore/test_faults.py
        ran = world.traced("-e", f"inject={CALLS}:signal=SIGKILL:when={call}")
        if ran.returncode == 0:  # the last calls are another thread's, which counts for itself
            world.undo()
            break
        assert ran.returncode == -9, ran.stderr
        killed = call
        tree = world.tree()
        for name, data in FILES.items():
            found, old = tree.get(f"opt/lib/{name}"), world.before.get(f"opt/lib/{name}")
            assert (found and found[0]) in {data, old and old[0]}, f"{name} is torn by a kill at call {call}"
        if world.cut_off():
            seen_unfinished += 1
            again = world.traced()
            assert again.returncode == 6
            assert b"is not finished" in again.stderr
            world.undo()
        elif tree != world.before:
            world.undo()  # killed after its end was written down
        assert world.tree() == world.before
    assert killed > 60
    assert seen_unfinished > 6


@pytest.mark.parametrize("error", ["ENOSPC", "EACCES"])
def test_out_of_disk_or_rights_at_any_system_call_all_is_undone(world: World, error: str) -> None:
    statuses = []
    for call in range(1, world.count() + 1, 6):
        ran = world.traced("-e", f"inject={CALLS}:error={error}:when={call}")
        statuses.append(ran.returncode)
        assert b"Traceback" not in ran.stderr
        assert b"fault of its own" not in ran.stderr, ran.stderr
        if ran.returncode in {0, 6}:  # the failing call did not matter; or several failed, one in each thread
            world.undo()
        assert world.tree() == world.before, f"{error} at call {call}: {ran.stderr.decode()}"
        assert not world.cut_off()
    assert statuses.count(5) > 8
    assert set(statuses) <= {0, 1, 3, 5, 6}
