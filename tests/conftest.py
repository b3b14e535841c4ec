"""What all tests share: the built command, machines, and a compiler."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from builders.machine import ALinuxMachine, AWindowsMachine

# How long a case takes is the machine's affair, and benchmarks measure it; no test fails over it.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")


class Ran:
    """One finished run of the built command."""

    def __init__(self, finished: subprocess.CompletedProcess[bytes]) -> None:
        self.status = finished.returncode
        self.out = finished.stdout.decode("utf-8", "surrogateescape")
        self.err = finished.stderr.decode("utf-8", "surrogateescape")

    @property
    def records(self) -> list[dict[str, Any]]:
        """Standard output as JSON Lines."""
        return [json.loads(line) for line in self.out.splitlines()]


Fundamen = Callable[..., Ran]
ROOM = 2 << 30  # bytes that a test in memory may need at most, and more


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """Where the built command keeps its state in this test."""
    return tmp_path / "home"


@pytest.fixture
def fundamen(home: Path, tmp_path: Path) -> Fundamen:
    """The built command, run as a process of its own."""
    command = shutil.which("fundamen", path=str(Path(sys.executable).parent))
    assert command, "the package is not installed beside this Python"

    def run(*words: str | os.PathLike[str] | bytes, given: bytes = b"", **environment: str) -> Ran:
        finished = subprocess.run(
            [command, *words],
            env={**os.environ, "FUNDAMEN_HOME": str(home), **environment},
            cwd=tmp_path,
            input=given,
            capture_output=True,
            timeout=400,  # a bound for what hangs; a machine may be slow
            check=False,
        )
        return Ran(finished)

    return run


@pytest.fixture
def in_memory(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A folder in memory where there is room: for thousands of restorations whose disk is not what is tested."""
    place = Path("/dev/shm")  # noqa: S108 - a file system in memory
    try:
        folder = Path(tempfile.mkdtemp(prefix="fundamen-", dir=place))
        os.setxattr(folder, "user.probe", b"1")  # not all of them can
        room = shutil.disk_usage(place).free
    except (OSError, AttributeError):
        room = 0
    if room < ROOM:
        yield tmp_path_factory.mktemp("on-disk")
        return
    os.removexattr(folder, "user.probe")
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def linux(tmp_path: Path) -> ALinuxMachine:
    """An empty Linux machine to be built on."""
    return ALinuxMachine(tmp_path / "linux")


@pytest.fixture
def windows(tmp_path: Path) -> AWindowsMachine:
    """An empty 64-bit Windows volume to be built on."""
    return AWindowsMachine(tmp_path / "windows")


@pytest.fixture
def compile_c(tmp_path: Path) -> Callable[..., Path]:
    """The C compiler: give it the output's path, the source text and further arguments."""
    compiler = shutil.which("cc") or shutil.which("gcc")
    if compiler is None:
        pytest.skip("no C compiler")

    def build(output: Path, source: str, *arguments: str, using: str = compiler) -> Path:
        output.parent.mkdir(parents=True, exist_ok=True)
        file = tmp_path / f"{output.name}.c"
        file.write_text(source)
        subprocess.run([using, str(file), "-o", str(output), *arguments], check=True, capture_output=True)
        return output

    return build
