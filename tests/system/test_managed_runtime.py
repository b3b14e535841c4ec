"""The real host and runtime are the truth for programs on shared frameworks.

The runtime that can be had here is the one for Linux. Its rules are the same; so each layout is made twice: for that
runtime, and as a Windows volume with the same files.
"""

import json
import os
import random
import re
import shutil
import signal
import subprocess
from collections.abc import Callable
from importlib.util import find_spec
from pathlib import Path
from typing import Any

import pytest

from builders.machine import AWindowsMachine
from fundamen.formats.managed.runtime_config import FrameworkReference, RollForward
from fundamen.loaders.roll_forward import framework_version, resolve_framework
from fundamen.model.verdict import Verdict

pytestmark = pytest.mark.system

CORE, VERSION = "Microsoft.NETCore.App", "3.1.23"
SHARED = f"shared/{CORE}/{VERSION}"
PROGRAM = "C:\\app\\app.dll"
UNHANDLED = -signal.SIGABRT  # as an exception that no one catches ends a program here
VERSIONS = (
    *("1.0.0", "1.0.5", "1.1.0", "1.1.3", "1.2.0-beta.2", "1.2.0-beta.11", "1.2.0-beta.x", "1.2.1-rc.1", "1.2.0"),
    *("2.0.0", "2.0.1", "2.1.0", "2.1.4-rc.1", "3.0.0-alpha", "3.0.0", "3.2.1"),
)


@pytest.fixture(scope="session")
def dotnet() -> Path:
    """The folder of the runtime, from a package of the package index."""
    spec = find_spec("dotnetcore2")
    assert spec is not None, "make test-system installs it"
    assert spec.origin is not None
    folder = Path(spec.origin).parent / "bin"
    (folder / "dotnet").chmod(0o755)
    return folder


def run(dotnet: Path, program: Path) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "DOTNET_SYSTEM_GLOBALIZATION_INVARIANT": "1", "COREHOST_TRACE": "0"}
    return subprocess.run([dotnet / "dotnet", program], env=environment, capture_output=True, text=True, check=False)


@pytest.fixture(scope="session")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """app.dll, which calls one.dll 2.0, which calls two.dll; in ``older`` one.dll 1.0."""
    folder = tmp_path_factory.mktemp("built")
    (folder / "older").mkdir()
    version = '[assembly: System.Reflection.AssemblyVersion("{}")]'
    target = '[assembly: System.Runtime.Versioning.TargetFramework(".NETCoreApp,Version=v3.1")]'
    call = "public class {} {{ public static int Go() {{ return {}; }} }}"
    sources = {
        "two.dll": call.format("Two", "42"),
        "older/one.dll": version.format("1.0.0.0") + call.format("One", "Two.Go()"),
        "one.dll": version.format("2.0.0.0") + call.format("One", "Two.Go()"),
        "app.dll": target + "class App { static int Main() { return One.Go(); } }",
    }
    for name, source in sources.items():
        (folder / "source.cs").write_text(source)
        uses = {"app.dll": ["-r:one.dll"], "two.dll": []}.get(name, ["-r:two.dll"])
        kind = "exe" if name == "app.dll" else "library"
        command = ["mcs", f"-target:{kind}", *uses, f"-out:{name}", "source.cs"]
        subprocess.run(command, cwd=folder, check=True, capture_output=True)
    return folder


class Layout:
    """A program beside a runtime; each method changes one thing and gives the layout back."""

    def __init__(self, folder: Path, built: Path, dotnet: Path) -> None:
        self.built = built
        self.app, self.dotnet = folder / "app", folder / "dotnet"
        shutil.copytree(dotnet, self.dotnet, copy_function=os.link)
        self.app.mkdir()
        for name in ("app.dll", "one.dll", "two.dll"):
            shutil.copy(built / name, self.app)
        self.asks_for("3.1.0")

    def asks_for(self, version: str, **options: Any) -> "Layout":
        content = {"runtimeOptions": {"framework": {"name": CORE, "version": version}, **options}}
        return self.writes("app.runtimeconfig.json", json.dumps(content))

    def lists(self, **packages: Any) -> "Layout":
        everything = {"app/1.0.0": {"runtime": {"app.dll": {}}}, **packages}
        libraries = {package: {"type": "package", "serviceable": False, "sha512": ""} for package in everything}
        content = {"runtimeTarget": {"name": "net"}, "targets": {"net": everything}, "libraries": libraries}
        return self.writes("app.deps.json", json.dumps(content))

    def writes(self, name: str, text: str) -> "Layout":
        (self.app / name).write_text(text)
        return self

    def without(self, *names: str) -> "Layout":
        for name in names:
            (self.app / name).unlink()
        return self

    def with_older(self) -> "Layout":
        shutil.copy(self.built / "older" / "one.dll", self.app)
        return self

    def without_framework_file(self, name: str) -> "Layout":
        (self.dotnet / SHARED / name).unlink()
        return self

    def as_windows_volume(self, root: Path) -> AWindowsMachine:
        volume = AWindowsMachine(root).system()
        shutil.copytree(self.app, root / "app")
        shutil.copytree(self.dotnet, root / "Program Files" / "dotnet", copy_function=os.link)
        for place in (f"host\\fxr\\{VERSION}\\hostfxr", SHARED + "\\hostpolicy", SHARED + "\\coreclr"):
            volume.library(f"C:\\Program Files\\dotnet\\{place}.dll")
        return volume


ONE: dict[str, Any] = {"one/2.0.0": {"runtime": {"one.dll": {}}}}
TWO: dict[str, Any] = {"two/1.0.0": {"runtime": {"lib/net/two.dll": {}}}}
FOR_OTHERS = {"runtimes/sun/lib/else.dll": {"rid": "sunos", "assetType": "runtime"}}

# Name -> what is changed, what the real runtime ends with, and the faults that a trace must name.
CASES: dict[str, tuple[Callable[[Layout], Layout], int, list[tuple[str, Verdict]]]] = {
    "intact": (lambda layout: layout, 42, []),
    "intact, with a list": (lambda layout: layout.lists(**ONE, **TWO), 42, []),
    "first level missing": (lambda layout: layout.without("one.dll"), UNHANDLED, [("one", Verdict.MISSING)]),
    "second level missing": (lambda layout: layout.without("two.dll"), UNHANDLED, [("two", Verdict.MISSING)]),
    "listed and missing": (
        lambda layout: layout.lists(**ONE, **TWO).without("two.dll"),
        0x8C,
        [("two", Verdict.MISSING)],
    ),
    "there and not listed": (lambda layout: layout.lists(**ONE), UNHANDLED, [("two", Verdict.MISSING)]),
    "native library listed and missing": (
        lambda layout: layout.lists(**ONE, **TWO, **{"deep/1.0.0": {"native": {"native/deep.dll": {}}}}),
        0x8C,
        [("deep.dll", Verdict.MISSING)],
    ),
    "file for another system listed and missing": (
        lambda layout: layout.lists(**ONE, **TWO, **{"else/1.0.0": {"runtimeTargets": FOR_OTHERS}}),
        42,
        [],
    ),
    "listed, and only the framework has it": (
        lambda layout: layout.lists(**ONE, **TWO, **{"xml/1.0.0": {"runtime": {"lib/System.Xml.dll": {}}}}),
        0x8C,
        [("System.Xml", Verdict.MISSING)],
    ),
    "older than asked for": (Layout.with_older, UNHANDLED, [("one", Verdict.OUTDATED)]),
    "not an assembly": (lambda layout: layout.writes("one.dll", "MZ" * 99), UNHANDLED, [("one", Verdict.CORRUPT)]),
    "a newer framework asked for": (
        lambda layout: layout.asks_for("3.1.99"),
        0x96,
        [(f"{CORE} 3.1.99", Verdict.OUTDATED)],
    ),
    "an older one, and no going to another major version": (
        lambda layout: layout.asks_for("2.1.0"),
        0x96,
        [(f"{CORE} 2.1.0", Verdict.MISSING)],
    ),
    "an older one, and any later will do": (lambda layout: layout.asks_for("2.1.0", rollForward="Major"), 42, []),
    "no configuration": (
        lambda layout: layout.without("app.runtimeconfig.json"),
        0x83,
        [("app.runtimeconfig.json", Verdict.MISSING)],
    ),
    "damaged configuration": (
        lambda layout: layout.writes("app.runtimeconfig.json", '{"runtimeOptions":'),
        0x93,
        [("app.runtimeconfig.json", Verdict.CORRUPT)],
    ),
    "damaged list": (
        lambda layout: layout.writes("app.deps.json", "{"),
        0x8B,
        [("app.deps.json", Verdict.CORRUPT), ("one", Verdict.MISSING)],
    ),
    "a file of the framework missing": (
        lambda layout: layout.without_framework_file("System.Xml.dll"),
        0x8C,
        [("System.Xml", Verdict.MISSING)],
    ),
    "the framework's list missing": (
        lambda layout: layout.without_framework_file(f"{CORE}.deps.json"),
        0x8B,
        [(f"{CORE}.deps.json", Verdict.MISSING), ("mscorlib", Verdict.MISSING)],
    ),
}


@pytest.mark.parametrize("case", CASES)
def test_a_trace_names_what_the_real_runtime_stops_at(case: str, tmp_path: Path, built: Path, dotnet: Path) -> None:
    change, status, expected = CASES[case]
    layout = change(Layout(tmp_path, built, dotnet))
    ended = run(layout.dotnet, layout.app / "app.dll")
    assert ended.returncode == status, ended.stderr
    volume = layout.as_windows_volume(tmp_path / "volume")
    found = [(fault.name.partition(",")[0], fault.verdict) for fault in volume.trace(PROGRAM).faults]
    assert found == expected
    for name, _ in found[:1]:
        assert name.split()[0] in ended.stdout + ended.stderr


def test_the_version_of_a_framework_is_the_one_that_the_real_host_picks(
    tmp_path: Path, built: Path, dotnet: Path
) -> None:
    """A made-up framework in random versions, asked for by random rules; the host's own trace tells its choice."""
    chance = random.Random(3)  # noqa: S311
    layout = Layout(tmp_path, built, dotnet)
    folder = layout.dotnet / "shared" / "Made.Up"
    picked = 0
    for _ in range(200):
        shutil.rmtree(folder, ignore_errors=True)
        installed = chance.sample(VERSIONS, chance.randint(1, 5))
        for version in installed:
            (folder / version).mkdir(parents=True)
            (folder / version / "Made.Up.deps.json").write_text("{}")
        reference = FrameworkReference("Made.Up", chance.choice(VERSIONS), chance.choice(list(RollForward)))
        asked = {"name": reference.name, "version": reference.version}
        options = {"framework": asked, "rollForward": reference.roll_forward}
        layout.writes("app.runtimeconfig.json", json.dumps({"runtimeOptions": options}))
        answer = subprocess.run(
            [layout.dotnet / "dotnet", layout.app / "app.dll"],
            env={**os.environ, "COREHOST_TRACE": "1"},
            capture_output=True,
            text=True,
            check=False,
        ).stderr
        choice = re.search(r"framework:'Made.Up'.*found version='([^']*)'", answer)
        versions = [known for name in installed if (known := framework_version(name)) is not None]
        ours = resolve_framework(reference, versions)
        assert (str(ours) if ours else None) == (choice[1] if choice else None), (installed, reference)
        picked += ours is not None
    assert 50 < picked < 150
