"""Over a thousand real PE files of three architectures, from public packages, against LLVM's own dump of each."""

import subprocess
import sys
import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import Pe, read_pe
from fundamen.formats.windows.pe_exports import read_exports
from fundamen.formats.windows.pe_imports import read_imported_functions
from fundamen.formats.windows.pe_version import read_version
from fundamen.model.binary import Necessity

pytestmark = pytest.mark.system

_SCIENCE = ["lxml", "numpy", "pandas", "pillow", "scipy", "scikit-learn", "PySide6-Essentials"]
PACKAGES = {  # platform -> the Python and the packages; the last releases for 32 bits are older
    "win32": ("3.10", ["lxml", "numpy<2", "pillow", "pywin32", "wxPython", "PyQt5-Qt5"]),
    "win_amd64": ("3.12", _SCIENCE),
    "win_arm64": ("3.12", _SCIENCE),
}


@pytest.fixture(scope="module")
def wheels(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The packages' wheels, by platform."""
    folder = tmp_path_factory.mktemp("wheels")
    for platform, (python, names) in PACKAGES.items():
        where = ["--dest", str(folder / platform), "--platform", platform, "--python-version", python]
        command = [
            sys.executable,
            "-m",
            "pip",
            "download",
            "--quiet",
            "--no-deps",
            "--only-binary=:all:",
            *where,
            *names,
        ]
        subprocess.run(command, check=True, capture_output=True)
    return folder


def binaries(folder: Path) -> Iterator[tuple[str, bytes]]:
    for wheel in sorted(folder.glob("*.whl")):
        with zipfile.ZipFile(wheel) as archive:
            for name in archive.namelist():
                if name.endswith((".pyd", ".dll", ".exe")):
                    data = archive.read(name)
                    if data.startswith(b"MZ"):
                        yield f"{wheel.name}/{name}", data


def according_to_llvm(path: Path) -> tuple[list[tuple[str, str, list[str]]], list[str], str]:
    """Imports as (kind, library, functions), exported names, and the machine."""
    command = ["llvm-readobj", "--file-headers", "--coff-imports", "--coff-exports", str(path)]
    run = subprocess.run(command, capture_output=True, text=True, check=True, errors="replace")
    imports: list[tuple[str, str, list[str]]] = []
    exports: list[str] = []
    machine = kind = ""
    for line in run.stdout.splitlines():
        words = line.split()
        if line in {"Import {", "DelayImport {", "Export {"}:
            kind = words[0]
        elif line.startswith("  Machine:"):
            machine = words[1]
        elif line.startswith("  Name: ") and kind in {"Import", "DelayImport"}:
            imports.append((kind, line.removeprefix("  Name: "), []))
        elif words[:1] == ["Symbol:"] and kind in {"Import", "DelayImport"}:
            symbol = line.strip().removeprefix("Symbol: ").rpartition(" (")
            imports[-1][2].append(symbol[0] or "#" + symbol[2].rstrip(")"))
        elif line.startswith("  Name: ") and kind == "Export":
            exports.append(line.removeprefix("  Name: "))
    return imports, exports, machine


MACHINES = {
    "IMAGE_FILE_MACHINE_I386": "x86",
    "IMAGE_FILE_MACHINE_AMD64": "x86_64",
    "IMAGE_FILE_MACHINE_ARM64": "aarch64",
    "IMAGE_FILE_MACHINE_ARMNT": "armv7",
}


def compare(name: str, data: bytes, scratch: Path) -> list[str]:
    """Differences between our reading and LLVM's."""
    source = MemoryBytes(data, name)
    pe: Pe = read_pe(source)
    scratch.write_bytes(data)
    imports, exports, machine = according_to_llvm(scratch)
    scratch.unlink()
    kinds = {Necessity.REQUIRED: "Import", Necessity.DELAYED: "DelayImport"}
    ours = [
        (kinds[library.how], library.name, sorted(str(f) for f in read_imported_functions(source, pe, library)))
        for library in pe.imports
    ]
    read_version(source, pe)
    differences = [f"problems {pe.problems}"] if pe.problems else []
    if pe.architecture != MACHINES[machine]:
        differences.append(f"{pe.architecture}, not {machine}")
    if ours != [(kind, library, sorted(functions)) for kind, library, functions in imports]:
        differences.append("imports")
    if sorted(read_exports(source, pe).names) != sorted(filter(None, exports)):
        differences.append("exports")
    return [f"{name}: {difference}" for difference in differences]


def test_needs_functions_exports_and_architectures_are_those_of_an_outside_dump(wheels: Path, tmp_path: Path) -> None:
    counts = {}
    differing: list[str] = []
    with ThreadPoolExecutor(2) as pool:
        for platform in PACKAGES:
            jobs = [
                pool.submit(compare, name, data, tmp_path / f"{platform}{number}")
                for number, (name, data) in enumerate(binaries(wheels / platform))
            ]
            counts[platform] = len(jobs)
            differing += [difference for job in jobs for difference in job.result()]
    assert differing == []
    assert min(counts.values()) > 200, counts
    assert sum(counts.values()) >= 1000, counts
