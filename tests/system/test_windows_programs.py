"""Programs of both widths on a real prefix; where the prefix can run them, it is the truth."""

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from builders.source import ASource
from conftest import Fundamen
from fundamen.formats.cursor import MemoryBytes
from fundamen.formats.pe import read_pe
from fundamen.formats.pe_imports import read_imported_functions

pytestmark = pytest.mark.system

WINE = "/usr/lib/wine/wine64"
COMPILERS = {"x86_64": "x86_64-w64-mingw32-gcc", "x86": "i686-w64-mingw32-gcc"}
NAMES = ("alder", "birch", "cedar")


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A fresh prefix, made by wine itself."""
    folder = tmp_path_factory.mktemp("prefix")
    wine(folder, "wineboot", "--init", seconds=300)
    assert (folder / "drive_c" / "windows" / "system32" / "kernel32.dll").exists()
    return folder


def wine(prefix: Path, *words: str, seconds: int = 60) -> subprocess.CompletedProcess[bytes]:
    environment = {**os.environ, "WINEPREFIX": str(prefix), "WINEDEBUG": "-all", "DISPLAY": ""}
    return subprocess.run([WINE, *words], env=environment, capture_output=True, timeout=seconds, check=False)


def build(folder: Path, width: str) -> None:
    """A program that adds up what three DLLs give; the first of them needs the third."""
    folder.mkdir(parents=True)
    sources = {
        "cedar": "__declspec(dllexport) int cedar(void) { return 3; }",
        "birch": "__declspec(dllexport) int birch(void) { return 2; }",
        "alder": "int cedar(void); __declspec(dllexport) int alder(void) { return cedar() - 2; }",
    }
    for name, source in sources.items():
        (folder / f"{name}.c").write_text(source)
        needs = ["cedar.dll"] if name == "alder" else []
        compile_in(folder, width, "-shared", "-o", f"{name}.dll", f"{name}.c", *needs)
    calls = " + ".join(f"{name}()" for name in NAMES)
    declarations = " ".join(f"int {name}(void);" for name in NAMES)
    (folder / "app.c").write_text(
        f'#include <stdio.h>\n{declarations} int main(void) {{ printf("sum %d", {calls}); return 0; }}'
    )
    compile_in(folder, width, "-o", "app.exe", "app.c", *(f"{name}.dll" for name in NAMES))
    for source_file in folder.glob("*.c"):
        source_file.unlink()


def stand_ins_for_the_system(programs: Path, folder: Path) -> None:
    """This prefix has no 32-bit system libraries; in their place stand some that export all that is called."""
    for name in ("kernel32", "msvcrt"):
        called = {function for file in programs.iterdir() for function in called_from(file, f"{name}.dll")}
        (folder / "nothing.c").write_text("int nothing(void) { return 0; }")
        (folder / f"{name}.def").write_text(
            "EXPORTS\n" + "".join(f"{function}=nothing\n" for function in sorted(called))
        )
        compile_in(
            folder, "x86", "-nostdlib", "-shared", "-Wl,-e,_nothing", "-o", f"{name}.dll", "nothing.c", f"{name}.def"
        )


def called_from(file: Path, library: str) -> set[str]:
    """The functions that a file imports from a library."""
    source = MemoryBytes(file.read_bytes(), str(file))
    pe = read_pe(source)
    wanted = [imported for imported in pe.imports if imported.name.lower() == library]
    return {str(function) for imported in wanted for function in read_imported_functions(source, pe, imported)}


def compile_in(folder: Path, width: str, *arguments: str) -> None:
    subprocess.run([COMPILERS[width], "-static-libgcc", *arguments], cwd=folder, check=True, capture_output=True)


@pytest.mark.parametrize("width", ["x86_64", "x86"])
def test_a_broken_program_is_traced_restored_run_and_undone(
    fundamen: Fundamen, prefix: Path, tmp_path: Path, width: str
) -> None:
    folder = prefix / "drive_c" / "Program Files" / f"App {width}"
    build(folder, width)
    other = tmp_path / "other"
    build(other, "x86" if width == "x86_64" else "x86_64")
    if (
        width == "x86"
    ):  # the prefix has no 32-bit system libraries; the other width's stand in for what only needs a name
        for name in ("kernel32.dll", "msvcrt.dll"):
            shutil.copy(other.parent / "other" / "cedar.dll", tmp_path / name)
    source = ASource(tmp_path / "it", tmp_path / "unused")
    source.published({f"{name}.dll": (folder / f"{name}.dll").read_bytes() for name in NAMES}, place="{program}")
    fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint)
    program = f"C:\\Program Files\\App {width}\\app.exe"
    on_prefix = ("--machine", str(prefix), "--json")
    if width == "x86":
        stand_ins_for_the_system(folder, prefix / "drive_c" / "windows" / "syswow64")
    assert fundamen("trace", *on_prefix, program).status == 0

    (folder / "alder.dll").unlink()
    shutil.copy(other / "birch.dll", folder / "birch.dll")
    os.truncate(folder / "cedar.dll", (folder / "cedar.dll").stat().st_size // 2)
    broken = {path.name: (path.read_bytes(), path.stat().st_mtime_ns) for path in folder.iterdir()}
    [trace] = fundamen("trace", *on_prefix, program).records
    assert {(c["name"], c["verdict"]) for c in trace["components"] if c["fault"]} == {
        ("alder.dll", "missing"),
        ("birch.dll", "wrong-architecture"),
        ("cedar.dll", "corrupt"),
    }
    if width == "x86_64":
        assert wine(prefix, program).stdout != b"sum 6"

    restored = fundamen("restore", "--yes", *on_prefix, program)
    assert (restored.status, restored.records[0]["faults"]) == (0, 0), restored.err
    if width == "x86_64":
        assert wine(prefix, program).stdout == b"sum 6"
    assert fundamen("undo", *on_prefix).status == 0
    assert {path.name: (path.read_bytes(), path.stat().st_mtime_ns) for path in folder.iterdir()} == broken


def test_every_program_of_the_prefix_itself_has_what_it_needs(fundamen: Fundamen, prefix: Path) -> None:
    programs = sorted(path.name for path in (prefix / "drive_c" / "windows" / "system32").glob("*.exe"))
    ran = fundamen(
        "trace", "--json", "--machine", str(prefix), *(f"C:\\windows\\system32\\{name}" for name in programs)
    )
    assert [record["path"] for record in ran.records if record["faults"] or record["error"]] == []
    assert len(ran.records) == len(programs) > 50
