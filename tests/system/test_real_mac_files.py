"""Over five hundred real Mach-O files from public packages, against LLVM's own dump of each."""

import glob
import shutil
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.mac.macho import MachO, read_macho
from fundamen.formats.mac.macho_imports import read_imports
from fundamen.formats.mac.macho_signature import find_altered_page, read_signature
from fundamen.formats.mac.macho_slice import THIN_MAGICS, Slice
from fundamen.formats.mac.macho_symbols import read_exports
from fundamen.model.binary import Necessity

pytestmark = pytest.mark.system

PACKAGES = {
    "macosx_10_15_x86_64": ["numpy", "scipy", "pandas", "matplotlib", "scikit-learn", "pillow"],
    "macosx_14_0_arm64": ["numpy", "scipy", "pandas", "pillow", "scikit-learn", "matplotlib", "shapely"],
    "macosx_10_15_universal2": ["lxml", "pyzmq"],
}
NAMES = {"x86_64": "x86_64", "aarch64": "arm64"}
HOWS = {
    "LC_LOAD_DYLIB": Necessity.REQUIRED,
    "LC_REEXPORT_DYLIB": Necessity.REQUIRED,
    "LC_LOAD_WEAK_DYLIB": Necessity.OPTIONAL,
}


def tool(name: str) -> str:
    """An LLVM tool, by its plain name or where Debian keeps it."""
    return shutil.which(name) or max(glob.glob(f"/usr/lib/llvm-*/bin/{name}"))


@pytest.fixture(scope="module")
def wheels(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The packages' wheels."""
    folder = tmp_path_factory.mktemp("wheels")
    for platform, names in PACKAGES.items():
        where = ["--dest", str(folder), "--platform", platform, "--python-version", "3.11"]
        how = [sys.executable, "-m", "pip", "download", "--quiet", "--no-deps", "--only-binary=:all:"]
        subprocess.run([*how, *where, *names], check=True, capture_output=True)
    return folder


def files_in(folder: Path) -> Iterator[tuple[str, bytes]]:
    for wheel in sorted(folder.glob("*.whl")):
        with zipfile.ZipFile(wheel) as archive:
            for name in archive.namelist():
                data = archive.read(name) if name.endswith((".so", ".dylib")) else b""
                if data[:4] in THIN_MAGICS or data[:4] == b"\xca\xfe\xba\xbe":
                    yield f"{wheel.name}/{name}", data


def according_to_llvm(path: Path, part: Slice, *words: str) -> list[str]:
    command = ["llvm-objdump", "--macho", f"--arch={NAMES[part.architecture]}", *words, str(path)]
    return subprocess.run(command, capture_output=True, text=True, check=True).stdout.splitlines()


def load_commands(lines: list[str]) -> dict[str, list[dict[str, str]]]:
    """Load commands by name, each with its fields."""
    commands: dict[str, list[dict[str, str]]] = {}
    fields: dict[str, str] = {}
    for line in lines:
        key, _, value = line.strip().replace(" version ", "-version ").partition(" ")
        if key == "cmd":
            fields = {}
            commands.setdefault(value, []).append(fields)
        fields.setdefault(key, value.strip())
    return commands


def compare_symbols(source: MemoryBytes, part: Slice, scratch: Path) -> list[str]:
    """Differences in imports and exports; LLVM's older releases do not read chained fixups."""
    bound = {line.split()[6] for line in according_to_llvm(scratch, part, "--bind") if line.startswith("__")}
    later = {line.split()[4] for line in according_to_llvm(scratch, part, "--lazy-bind") if line.startswith("__")}
    offered = {line.split()[1] for line in according_to_llvm(scratch, part, "--exports-trie") if "0x" in line[:3]}
    has_same_imports = {each.name for each in read_imports(source, part)} == bound | later
    has_same_exports = set(read_exports(source, part)) == offered
    return ["imports"] * (not has_same_imports) + ["exports"] * (not has_same_exports)


def compare(name: str, data: bytes, scratch: Path) -> list[str]:
    """Differences between our reading and LLVM's."""
    source = MemoryBytes(data, name)
    macho: MachO = read_macho(source)
    scratch.write_bytes(data)
    differences = [f"problems {macho.problems}"] if macho.problems else []
    listed = subprocess.run([tool("llvm-lipo"), "-archs", scratch], capture_output=True, text=True, check=True).stdout
    if [NAMES[part.architecture] for part in macho.slices] != listed.split():
        differences.append(f"architectures {listed}")
    for part in macho.slices:
        commands = load_commands(according_to_llvm(scratch, part, "--private-headers"))
        needs = {(need["name"].rpartition(" (")[0], how) for key, how in HOWS.items() for need in commands.get(key, ())}
        if {(dylib.name, dylib.how) for dylib in part.dylibs} != needs:
            differences.append(f"needs {needs}")
        named = [each["name"].rpartition(" (")[0] for each in commands.get("LC_ID_DYLIB", ())]
        if [part.install_name] * bool(part.install_name) != named:
            differences.append(f"install name {named}")
        run_paths = [each["path"].rpartition(" (")[0] for each in commands.get("LC_RPATH", ())]
        if list(part.run_paths) != run_paths:
            differences.append(f"run paths {run_paths}")
        differences += compare_symbols(source, part, scratch) if part.bindings else []
        signature = read_signature(source, part)
        if signature is not None and find_altered_page(source, part, signature) is not None:
            differences.append("pages that are not what was signed")
        if signature is None and part.architecture == "aarch64":
            differences.append("no signature")
    scratch.unlink()
    return [f"{name}: {difference}" for difference in differences]


def test_needs_names_imports_and_exports_are_those_of_an_outside_dump(wheels: Path, tmp_path: Path) -> None:
    with ThreadPoolExecutor(2) as pool:
        jobs = [
            pool.submit(compare, name, data, tmp_path / str(number))
            for number, (name, data) in enumerate(files_in(wheels))
        ]
        assert [difference for job in jobs for difference in job.result()] == []
    assert len(jobs) >= 500
