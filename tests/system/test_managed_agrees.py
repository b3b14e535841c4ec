"""Mono's own disassembler is the truth for what real managed assemblies refer to."""

import subprocess
from pathlib import Path

import pytest

from fundamen.formats.cli_header import read_managed
from fundamen.formats.cursor import MemoryBytes
from fundamen.formats.pe import read_pe

pytestmark = pytest.mark.system


def told_by_monodis(path: Path) -> list[str]:
    run = subprocess.run(
        ["monodis", "--assemblyref", path], capture_output=True, text=True, errors="replace", check=True
    )
    versions = [line.partition("Version=")[2] for line in run.stdout.splitlines() if "Version=" in line]
    names = [line.partition("Name=")[2] for line in run.stdout.splitlines() if line.strip().startswith("Name=")]
    return [f"{name} {version}" for name, version in zip(names, versions, strict=True)]


def test_references_of_real_assemblies_are_those_that_monodis_lists() -> None:
    compared = 0
    for path in sorted(Path("/usr/lib/mono").rglob("*.dll")) + sorted(Path("/usr/lib/mono").rglob("*.exe")):
        source = MemoryBytes(path.read_bytes(), str(path))
        managed = read_managed(source, read_pe(source))
        assert managed is not None, path
        assert [f"{r.name} {r.version}" for r in managed.references] == told_by_monodis(path), path
        compared += 1
    assert compared > 100
