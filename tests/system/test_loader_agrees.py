"""The OS's own loader is the truth: for every dynamic program of this host, we find what it finds."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from builders.listing import listed
from fundamen.formats.unix.elf import Elf
from fundamen.loaders.loading import load_map
from fundamen.machine.opening import open_machine
from fundamen.model.binary import Necessity
from fundamen.model.errors import FundamenError
from fundamen.model.paths import MachinePath

pytestmark = [pytest.mark.system, pytest.mark.skipif(sys.platform != "linux", reason="the loader is Linux's")]


INTERPRETERS = {"x86_64": "/lib64/ld-linux-x86-64.so.2", "x86": "/lib/ld-linux.so.2"}


def according_to_the_loader(program: str, interpreter: str) -> set[str | None]:
    """The real files that the loader maps for a program; None for each name that it does not find."""
    environment = {"LD_TRACE_LOADED_OBJECTS": "1"}
    secure = bool(os.stat(program).st_mode & 0o6000)  # in secure mode the loader does not answer; asked by hand it does
    return printed_by([interpreter, "--list", os.path.realpath(program)] if secure else [program], environment)


def printed_by(command: list[str], environment: dict[str, str]) -> set[str | None]:
    run = subprocess.run(
        command, env=environment, stdin=subprocess.DEVNULL, capture_output=True, timeout=60, check=False
    )
    return listed(run.stdout)


@pytest.mark.parametrize("folder", ["/usr/bin", "/usr/sbin", "/usr/libexec"])
def test_every_dynamic_program_gets_the_loaders_own_answer(folder: str) -> None:
    machine = open_machine(None, environment={})
    compared, differing = 0, {}
    for path in sorted(Path(folder).glob("*")):
        try:
            elf = machine.binary(MachinePath(str(path)))
        except FundamenError:
            continue
        if not (isinstance(elf, Elf) and elf.interpreter and "ld-linux" in elf.interpreter):
            continue
        ours = {r.path and os.path.realpath(r.path) for r in load_map(machine, MachinePath(str(path))).resolutions}
        theirs = according_to_the_loader(str(path), elf.interpreter)
        compared += 1
        if ours != theirs:
            differing[str(path)] = ours ^ theirs
    assert differing == {}
    assert compared > (100 if folder == "/usr/bin" else -1)


def test_every_dynamic_file_below_usr_gets_the_loaders_own_answer() -> None:
    """Its list mode stops at the first name that is not found; traced by its variable the loader goes on."""
    machine = open_machine(None, environment={})
    compared, differing = 0, {}
    files = (Path(folder, name) for folder, _, names in os.walk("/usr") for name in names)
    for path in files:
        try:
            elf = machine.binary(MachinePath(str(path))) if path.is_file() and not path.is_symlink() else None
        except FundamenError:
            continue
        interpreter = INTERPRETERS.get(elf.architecture) if isinstance(elf, Elf) and elf.is_dynamic else None
        if interpreter is None or not os.path.exists(interpreter) or path.name.startswith("ld-linux"):
            continue
        if isinstance(elf, Elf) and "ld-linux" not in (elf.interpreter or "ld-linux"):
            continue  # it is started by another loader
        loading = load_map(machine, MachinePath(str(path)))
        needs = [r for r in loading.resolutions if (r.path or r.how is Necessity.REQUIRED) and r.kind != "runtime"]
        ours = {need.path and os.path.realpath(need.path) for need in needs}
        theirs = printed_by([interpreter, str(path)], {"LD_TRACE_LOADED_OBJECTS": "1"})
        compared += 1
        if difference := (ours ^ theirs) - {os.path.realpath(interpreter)}:
            differing[str(path)] = difference
    assert differing == {}
    assert compared > 500
