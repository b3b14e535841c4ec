"""A compiler toolchain's own dump is the truth for what real files need and are called."""

import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.pe import a_pe
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.elf import Elf
from fundamen.formats.unix.elf_symbols import read_exports
from fundamen.model.binary import Binary
from fundamen.model.errors import NotExecutableError

pytestmark = pytest.mark.system

OBJDUMP = "x86_64-w64-mingw32-objdump"


def read(data: bytes) -> Binary | None:
    try:
        return read_binary(MemoryBytes(data))
    except NotExecutableError:
        return None


def dumped(*command: str | Path) -> list[str]:
    run = subprocess.run(command, capture_output=True, text=True, errors="replace", check=False)
    return run.stdout.splitlines()


def elf_files() -> Iterator[tuple[Path, Elf]]:
    for path in sorted(Path("/usr/lib").rglob("*.so*"))[:1500]:
        if path.is_file() and not path.is_symlink():
            binary = read(path.read_bytes())
            if isinstance(binary, Elf):
                yield path, binary


def test_real_elf_libraries_are_intact_and_need_what_readelf_tells() -> None:
    compared = 0
    for path, elf in elf_files():
        values = [
            (line.split()[1], line[line.index("[") + 1 : -1]) for line in dumped("readelf", "-dW", path) if "[" in line
        ]
        assert [need.name for need in elf.needs] == [value for tag, value in values if tag == "(NEEDED)"], path
        assert elf.name == next((value for tag, value in values if tag == "(SONAME)"), None), path
        assert elf.problems == (), path
        compared += 1
    assert compared > 100


def test_exports_of_real_elf_libraries_are_those_that_nm_lists() -> None:
    for path, elf in [*elf_files()][:60]:
        listed = [line.split() for line in dumped("nm", "-D", "--defined-only", "--without-symbol-versions", path)]
        names = {words[-1] for words in listed if len(words) == 3 and words[1] != "a"}
        found = set(read_exports(MemoryBytes(path.read_bytes()), elf))
        assert names <= found, path
        assert not found - {words[-1] for words in listed}, path


@pytest.mark.parametrize("architecture", ["x86_64", "x86"])
def test_the_tests_own_files_are_real_to_outside_tools(tmp_path: Path, architecture: str) -> None:
    elf, pe = tmp_path / "built.so", tmp_path / "built.dll"
    elf.write_bytes(an_elf(architecture, needs=("liba.so",), soname="libx.so", runpath="$ORIGIN", exports=("one",)))
    assert [line.partition("[")[2].rstrip("]") for line in dumped("readelf", "-dW", elf) if "[" in line] == [
        "liba.so",
        "libx.so",
        "$ORIGIN",
    ]
    assert any(line.endswith(" one") for line in dumped("readelf", "-D", "-s", "-W", elf))
    pe.write_bytes(a_pe(architecture, needs=("a.dll", "b.dll"), name="x.dll", exports=("One", "Two")))
    answer = dumped(OBJDUMP, "-p", pe)
    assert [line.split(": ")[1] for line in answer if "DLL Name: " in line] == ["a.dll", "b.dll"]
    assert [line.split()[-1] for line in answer if line.endswith(("One", "Two"))] == ["One", "Two"]
