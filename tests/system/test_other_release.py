"""Debian roots of other releases, examined from outside; each one's own loader, run inside it, is the truth."""

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from builders.debian_root import MAKES_A_ROOT
from builders.listing import listed
from fundamen.formats.unix.elf import Elf
from fundamen.loaders.loading import load_map
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.errors import FundamenError
from fundamen.model.paths import MachinePath

LOADER = "/lib64/ld-linux-x86-64.so.2"
CHROOT = shutil.which("chroot") or "/usr/sbin/chroot"
PACKAGES = "git,curl,vim-nox,python3,systemd,imagemagick"

pytestmark = MAKES_A_ROOT


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


def answers(machine: Machine, root: Path, path: MachinePath) -> tuple[set[str | None], set[str | None]]:
    """Ours and the root's own loader's: the files that are loaded; None for what is not found."""
    loading = load_map(machine, path)
    needs = [r for r in loading.resolutions if (r.path or r.how is Necessity.REQUIRED) and r.kind != "runtime"]
    command = [CHROOT, str(root), "/usr/bin/env", "LD_TRACE_LOADED_OBJECTS=1", LOADER, path]
    run = subprocess.run(command, env={}, capture_output=True, check=False)
    loader = {machine.real(MachinePath(LOADER))}
    ours: set[str | None] = {need.path and machine.real(need.path) for need in needs}
    return ours - loader, listed(run.stdout, lambda text: machine.real(MachinePath(text))) - loader


def preloaded(root: Path) -> MachinePath:
    """Have every program of the root load a library, by a name that only the cache knows, from a folder of its own."""
    (root / "opt/tide").mkdir()
    (root / "tmp/tide.c").write_text("int tide;")
    library = root / "opt/tide/libpreloaded.so"
    subprocess.run(["cc", "-shared", "-nostdlib", "-fPIC", "-o", library, root / "tmp/tide.c"], check=True)
    (root / "etc/ld.so.conf.d/tide.conf").write_text("/opt/tide\n")
    subprocess.run([CHROOT, str(root), "/sbin/ldconfig"], check=True)
    (root / "etc/ld.so.preload").write_text("# for all programs\nlibpreloaded.so\n")
    return MachinePath("/opt/tide/libpreloaded.so")


@pytest.mark.parametrize(("release", "first"), [("bullseye", 0), ("trixie", 1)])
def test_every_other_dynamic_file_of_another_release_gets_its_own_loaders_answer(
    release: str, first: int, tmp_path: Path
) -> None:
    root = tmp_path / release
    made = subprocess.run(
        ["debootstrap", "--variant=minbase", f"--include={PACKAGES}", release, root], capture_output=True, check=False
    )
    assert made.returncode == 0, made.stdout[-2000:]
    machine = open_machine(str(root), environment={})
    compared, differing = 0, {}
    for path in list(dynamic_files(machine, root))[first::2]:
        ours, theirs = answers(machine, root, path)
        compared += 1
        if ours != theirs:
            differing[path] = ours ^ theirs
    assert differing == {}
    assert compared > 250
    library = preloaded(root)
    ours, theirs = answers(machine.afresh(), root, MachinePath("/usr/bin/env"))
    assert ours == theirs
    assert library in ours
