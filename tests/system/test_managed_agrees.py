"""Another implementation of the runtime is the truth: what assemblies refer to, and where they are probed for.

It is more lenient than the documented rule about versions of signed assemblies, so only unsigned ones are run here.
"""

import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from builders.machine import AWindowsMachine
from conftest import Fundamen
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.managed.cli_header import read_managed
from fundamen.formats.windows.pe import read_pe

pytestmark = pytest.mark.system


def according_to_monodis(path: Path) -> list[str]:
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
        assert [f"{r.name} {r.version}" for r in managed.references] == according_to_monodis(path), path
        compared += 1
    assert compared > 100


def in_a_folder_of_its_name(app: Path) -> None:
    (app / "one").mkdir()
    (app / "one.dll").rename(app / "one" / "one.dll")


def in_a_private_path(app: Path) -> None:
    (app / "lib").mkdir()
    (app / "two.dll").rename(app / "lib" / "two.dll")
    probing = '<assemblyBinding xmlns="urn:schemas-microsoft-com:asm.v1"><probing privatePath="lib"/></assemblyBinding>'
    (app / "app.exe.config").write_text(f"<configuration><runtime>{probing}</runtime></configuration>")


def where_no_one_looks(app: Path) -> None:
    (app / "lib").mkdir()
    (app / "two.dll").rename(app / "lib" / "two.dll")


LAYOUTS: dict[str, tuple[Callable[[Path], object], list[str]]] = {
    "intact": (lambda _: None, []),
    "first level missing": (lambda app: (app / "one.dll").unlink(), ["one"]),
    "second level missing": (lambda app: (app / "two.dll").unlink(), ["two"]),
    "in a folder of its name": (in_a_folder_of_its_name, []),
    "in a private path": (in_a_private_path, []),
    "where nobody looks": (where_no_one_looks, ["two"]),
    "cut off": (lambda app: os.truncate(app / "two.dll", 700), ["two"]),
    "not an assembly": (lambda app: (app / "one.dll").write_text("one"), ["one"]),
}


@pytest.mark.parametrize("layout", LAYOUTS)
def test_probing_finds_what_the_runtime_finds(layout: str, tmp_path: Path) -> None:
    change, expected = LAYOUTS[layout]
    volume = AWindowsMachine(tmp_path).system().library("C:\\Windows\\System32\\mscoree.dll", exports=("_CorExeMain",))
    folder = "C:\\Windows\\Microsoft.NET\\Framework64\\v4.0.30319"
    volume.library(f"{folder}\\clr.dll").assembly(f"{folder}\\mscorlib.dll", "4.0.0.0", refers_to=())
    app = tmp_path / "app"
    app.mkdir()
    for name, body in (("two.dll", "7"), ("one.dll", "Two.Go()"), ("app.exe", "One.Go()")):
        start = "static int Main" if name == "app.exe" else "public static int Go"
        (app / "source.cs").write_text(f"public class {name[:3].capitalize()} {{ {start}() {{ return {body}; }} }}")
        uses = [f"-r:{other}" for other in ("one.dll", "two.dll") if (app / other).exists()]
        kind = "exe" if name == "app.exe" else "library"
        command = ["mcs", f"-target:{kind}", *uses, f"-out:{name}", "source.cs"]
        subprocess.run(command, cwd=app, check=True, capture_output=True)
    change(app)
    ended = subprocess.run(["mono", app / "app.exe"], cwd=app, capture_output=True, text=True, check=False)
    assert (ended.returncode == 7) == (not expected), ended.stderr
    assert all(name in ended.stderr for name in expected)
    faults = volume.trace("C:\\app\\app.exe").faults
    assert [fault.name.partition(",")[0] for fault in faults] == expected


def test_an_assembly_to_compile_against_is_distinguished_from_the_one_that_runs(
    windows: AWindowsMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    mark = "[assembly: System.Runtime.CompilerServices.ReferenceAssembly]"
    named = '[assembly: System.Reflection.AssemblyVersion("4.{}")]\npublic class Tide {{ public static int Now; }}'
    for name, text in {"runs": named.format(1), "compiles": mark + named.format(2)}.items():
        (tmp_path / name).mkdir()
        (tmp_path / f"{name}.cs").write_text(text)
        words = ["mcs", "-target:library", f"-out:{name}/salt.dll", f"{name}.cs"]
        subprocess.run(words, cwd=tmp_path, check=True)
    answer = fundamen("inspect", "--json", tmp_path / "compiles" / "salt.dll", tmp_path / "runs" / "salt.dll")
    assert [each["managed"]["is_reference"] for each in answer.records] == [True, False]
    media = [word for name in ("compiles", "runs") for word in ("--media", str(tmp_path / name))]
    ran = fundamen("sources", "offers", "-m", str(windows.system().root), *media, "salt.dll")
    assert "for developers" in " ".join(ran.out.split()), ran.out + ran.err
