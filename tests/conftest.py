"""Share the built command, machines and a compiler among all tests."""

import gc
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from builders.compiled import compiled
from builders.machine import ALinuxMachine, AWindowsMachine
from command import Ran, Server, Word, run_cold, serving

# How long a case takes is the machine's affair, and benchmarks measure it; no test fails over it.
settings.register_profile("quick", deadline=None, max_examples=40)
settings.register_profile("thorough", deadline=None, max_examples=300)
settings.load_profile("quick")


Fundamen = Callable[..., Ran]
ROOM = 2 << 30  # bytes that tests in memory may need at most, and more
NO_SCANNER = {"FUNDAMEN_SETTLE": "0.02"}  # none takes away what was placed, save where a test starts one
IN_MEMORY = pytest.StashKey[Path | None]()


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """Where the built command keeps its state in this test."""
    return tmp_path / "home"


@pytest.fixture(scope="session")
def command_server() -> Iterator[Server]:
    """The process that runs the command for the tests of this worker."""
    with serving() as process:
        yield process


@pytest.fixture
def fundamen(command_server: Server, home: Path, tmp_path: Path) -> Fundamen:
    """The built command, run by a forked child of a process that has imported it."""

    def run(*words: Word, given: bytes = b"", **environment: str) -> Ran:
        return command_server.run(
            words, {**os.environ, **NO_SCANNER, "FUNDAMEN_HOME": str(home), **environment}, tmp_path, given
        )

    return run


@pytest.fixture
def cold(home: Path, tmp_path: Path) -> Fundamen:
    """The built command, started afresh: for what is about starting."""

    def run(*words: Word, given: bytes = b"", **environment: str) -> Ran:
        return run_cold(words, {**os.environ, **NO_SCANNER, "FUNDAMEN_HOME": str(home), **environment}, tmp_path, given)

    return run


@pytest.fixture
def in_memory(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A folder in memory where there is room: for thousands of restorations whose disk is not what is tested."""
    if (folder := _folder_in_memory()) is None:
        yield tmp_path_factory.mktemp("on-disk")
        return
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.hookimpl(tryfirst=True)
def pytest_configure(config: pytest.Config) -> None:
    """Have the unit tests' temporary folders in memory, where there is room: then no test waits for a disk."""
    is_worker = hasattr(config, "workerinput")
    if is_worker or config.option.basetemp is not None or "not system" not in config.option.markexpr:
        return
    config.option.basetemp = config.stash[IN_MEMORY] = _folder_in_memory()


def pytest_collection_finish() -> None:
    """Have the garbage collector look at what the tests make only: what was collected lives to the end."""
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def pytest_sessionfinish() -> None:
    """Spare the collector what ends with the process anyway: it is run five times more by then."""
    gc.freeze()


def pytest_unconfigure(config: pytest.Config) -> None:
    """Take those folders away."""
    if (folder := config.stash.get(IN_MEMORY, None)) is not None:
        shutil.rmtree(folder, ignore_errors=True)


def _folder_in_memory() -> Path | None:
    """A new folder in memory that can hold what a disk can; None where there is no room, or it cannot."""
    place = Path("/dev/shm")  # noqa: S108 - a file system in memory
    try:
        if shutil.disk_usage(place).free < ROOM or os.statvfs(place).f_flag & os.ST_NOEXEC:
            return None
        folder = Path(tempfile.mkdtemp(prefix="fundamen-", dir=place))
        os.setxattr(folder, "user.probe", b"1")  # not all of them can
        os.removexattr(folder, "user.probe")
    except (OSError, AttributeError):
        return None
    return folder


@pytest.fixture(params=[False, pytest.param(True, marks=pytest.mark.system)], ids=["a value a byte", "every value"])
def every_value(request: pytest.FixtureRequest) -> bool:
    """Whether a file is changed to each of several values at each byte, which takes a while."""
    return bool(request.param)


@pytest.fixture
def linux(tmp_path: Path) -> ALinuxMachine:
    """An empty Linux machine to be built on."""
    return ALinuxMachine(tmp_path / "linux")


@pytest.fixture
def windows(tmp_path: Path) -> AWindowsMachine:
    """An empty 64-bit Windows volume to be built on."""
    return AWindowsMachine(tmp_path / "windows")


@pytest.fixture
def compile_c() -> Callable[..., Path]:
    """The C compiler, as ``compiled`` has it."""
    return compiled
