"""Debian roots of other releases, examined from outside; each one's own loader, run inside it, is the truth."""

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from builders.listing import listed
from fundamen.formats.elf import Elf
from fundamen.loaders.loading import load_map
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.model.architecture import Architecture
from fundamen.model.binary import How
from fundamen.model.errors import FundamenError
from fundamen.model.paths import MachinePath

LOADER = "/lib64/ld-linux-x86-64.so.2"
CHROOT = shutil.which("chroot") or "/usr/sbin/chroot"
PACKAGES = "git,curl,vim-nox,python3,systemd,imagemagick"

pytestmark = [
    pytest.mark.system,
    pytest.mark.skipif(sys.platform != "linux" or os.geteuid() != 0, reason="only root may build a root"),
    pytest.mark.skipif(not shutil.which("debootstrap"), reason="no debootstrap"),
]


def dynamic_files(machine: Machine, root: Path) -> Iterator[MachinePath]:
    for folder, _, names in os.walk(root / "usr"):
        for name in names:
            host = os.path.join(folder, name)
            path = MachinePath(host[len(str(root)) :])
            if os.path.islink(host) or not os.path.isfile(host) or name.startswith("ld-"):
                continue
            try:
                elf = machine.binary(path)
            except FundamenError:
                continue
            if isinstance(elf, Elf) and elf.is_dynamic and elf.architecture is Architecture.X86_64 and elf.needs:
                yield path


@pytest.mark.parametrize("release", ["bullseye", "trixie"])
def test_every_dynamic_file_of_another_release_gets_its_own_loaders_answer(release: str, tmp_path: Path) -> None:
    root = tmp_path / release
    made = subprocess.run(
        ["debootstrap", "--variant=minbase", f"--include={PACKAGES}", release, root], capture_output=True, check=False
    )
    assert made.returncode == 0, made.stdout[-2000:]
    machine = open_machine(str(root), environment={})
    compared, differing = 0, {}
    for path in dynamic_files(machine, root):
        loading = load_map(machine, path)
        needs = [r for r in loading.resolutions if (r.path or r.how is How.REQUIRED) and r.kind != "runtime"]
        ours = {need.path and machine.real(need.path) for need in needs}
        command = [CHROOT, str(root), "/usr/bin/env", "LD_TRACE_LOADED_OBJECTS=1", LOADER, path]
        run = subprocess.run(command, env={}, capture_output=True, check=False)
        theirs = listed(run.stdout, lambda text: machine.real(MachinePath(text)))
        compared += 1
        if difference := (ours ^ theirs) - {machine.real(MachinePath(LOADER))}:
            differing[path] = (difference, run.stderr[:200])
    assert differing == {}
    assert compared > 500
