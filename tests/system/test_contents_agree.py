"""Debian's package database is the truth for which package brings which installed library."""

import random
import subprocess
from pathlib import Path

import pytest

from fundamen.evidence.debian_contents import contents_lists, find_bringers
from fundamen.machine.opening import open_machine
from fundamen.model.architecture import Architecture

pytestmark = pytest.mark.system


def test_the_package_that_would_bring_an_installed_library_is_the_one_that_brought_it() -> None:
    machine = open_machine(None)
    if not contents_lists(machine, [Architecture.X86_64]):
        pytest.skip("no contents lists of a Debian archive")
    folder = "/usr/lib/x86_64-linux-gnu"
    names = sorted(path.name for path in Path(folder).glob("lib*.so.*") if "\n" not in path.name)
    chosen = random.Random(4).sample(names, min(60, len(names)))  # noqa: S311 - the same ones each time
    found = find_bringers(machine, chosen, [Architecture.X86_64], [folder])
    compared = 0
    for name in chosen:
        answer = subprocess.run(
            ["dpkg", "-S", f"*/x86_64-linux-gnu/{name}"], capture_output=True, text=True, check=False
        )
        owners = {line.partition(":")[0] for line in answer.stdout.splitlines() if not line.startswith("diversion")}
        if owners:  # a link that ldconfig made belongs to no one
            assert owners & {bringer.package for bringer in found.get(name, ())}, (name, owners, found.get(name))
            compared += 1
    assert compared > len(chosen) / 2
