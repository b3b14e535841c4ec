"""The script for PowerShell gathers a capture that answers as the prefix does.

There is no PowerShell here to run it. The code that gathers, which it has compiled on the spot, is compiled as Windows
PowerShell 5.1 does it (C# 5, the core library and System.dll alone), and run by a real managed runtime for Windows; of
the few lines around it a grammar of the language is asked whether they are well formed.
"""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from builders.prefix import a_prefix
from conftest import Fundamen
from fundamen.machine.gathered import gathering_script

pytestmark = pytest.mark.system

WINE = "/usr/lib/wine/wine64"
RUNTIME = Path(sys.prefix) / "windows/dotnetcore2/bin/dotnet.exe"  # made by make test-system
SCRIPT = gathering_script("powershell")
START = """public static class Start { public static int Main(string[] words) {
    if (words.Length == 1) return FundamenGather.Run(words[0], null, true);
    string[] programs = new string[words.Length - 1]; System.Array.Copy(words, 1, programs, 0, programs.Length);
    return FundamenGather.Run(words[0], programs, false); } }"""
SETTINGS = {
    "tfm": "netcoreapp3.1",
    "framework": {"name": "Microsoft.NETCore.App", "version": "3.1.0"},
    "configProperties": {"System.Globalization.Invariant": True},
}
PROGRAMS = (
    *(f"C:\\windows\\system32\\{name}.exe" for name in ("notepad", "msiexec", "cmd", "winecfg", "taskmgr")),
    *("C:\\windows\\regedit.exe", "C:\\windows\\explorer.exe", "C:\\app\\app.exe", "C:\\net\\managed.exe"),
    "C:\\net\\hosted.exe",
)


@pytest.fixture(scope="module")
def gatherer(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The compiled code, with what the runtime must know of it."""
    folder = tmp_path_factory.mktemp("gatherer")
    code = SCRIPT.split("@'\n")[1].split("\n'@")[0]
    (folder / "gather.cs").write_text(code + START)
    words = ["mcs", "-langversion:5", "-noconfig", "-r:System.dll", "-warnaserror", "-out:gather.dll", "gather.cs"]
    subprocess.run(words, cwd=folder, check=True)
    (folder / "gather.runtimeconfig.json").write_text(json.dumps({"runtimeOptions": SETTINGS}))
    return folder / "gather.dll"


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A prefix with a program that lacks a library, another that is managed, and one that a shared framework hosts."""
    folder = a_prefix(tmp_path_factory)
    app, net = folder / "drive_c/app", folder / "drive_c/net"
    app.mkdir()
    net.mkdir()
    (app / "tide.c").write_text("__declspec(dllexport) int tide(void) { return 1; }")
    (app / "app.c").write_text("int tide(void); int main(void) { return tide(); }")
    for words in (("-shared", "-o", "tide.dll", "tide.c"), ("-o", "app.exe", "app.c", "tide.dll")):
        subprocess.run(["x86_64-w64-mingw32-gcc", *words], cwd=app, check=True)
    (app / "tide.dll").unlink()
    (net / "one.cs").write_text("public class One { public static int Go() { return 1; } }")
    (net / "app.cs").write_text("class App { static int Main() { return One.Go(); } }")
    subprocess.run(["mcs", "-target:library", "one.cs"], cwd=net, check=True)
    subprocess.run(["mcs", "-r:one.dll", "-out:managed.exe", "app.cs"], cwd=net, check=True)
    (net / "hosted.exe").write_bytes((net / "managed.exe").read_bytes())
    (net / "hosted.runtimeconfig.json").write_text(json.dumps({"runtimeOptions": SETTINGS}))
    return folder


def run(prefix: Path, *words: str | Path) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "WINEPREFIX": str(prefix), "WINEDEBUG": "-all"}
    return subprocess.run([WINE, *words], env=environment, capture_output=True, text=True, check=True, errors="replace")


def test_a_capture_of_what_it_gathered_answers_as_the_prefix_does(
    fundamen: Fundamen, prefix: Path, gatherer: Path, tmp_path: Path
) -> None:
    target = prefix / "drive_c/quay.gathered"
    words = (RUNTIME, "exec", "--runtimeconfig", gatherer.with_suffix(".runtimeconfig.json"), gatherer)
    ran = run(prefix, *words, "C:\\quay.gathered", *PROGRAMS, "C:\\none.exe")
    assert "none.exe is no file" in ran.stderr
    made = fundamen("capture", "quay.capture", "--from", target, "--yes", "--json")
    assert made.status == 0, made.err
    path = run(prefix, "cmd", "/c", "echo %PATH%").stdout.strip()
    there = fundamen("trace", "-m", tmp_path / "quay.capture", "--json", *PROGRAMS).records
    here = fundamen("trace", "-m", prefix, "--env", f"PATH={path}", "--json", *PROGRAMS).records
    assert len(here) == len(PROGRAMS)
    for own, other in zip(here, there, strict=True):
        assert own["components"] == other["components"] != [], own["path"]
    faults = {each["path"]: [one["name"] for one in each["components"] if one["fault"]] for each in here}
    assert faults["C:\\app\\app.exe"] == ["tide.dll"]
    assert faults["C:\\windows\\system32\\notepad.exe"] == []


def test_of_the_whole_prefix_it_is_surveyed_as_the_prefix_is(
    fundamen: Fundamen, prefix: Path, gatherer: Path, tmp_path: Path
) -> None:
    odd = prefix / "drive_c/Program Files/tide"
    odd.mkdir()
    (odd / "tide.exe").write_bytes((prefix / "drive_c/app/app.exe").read_bytes())
    (odd / "ebb.dll").write_bytes(b"MZ cut")
    words = (RUNTIME, "exec", "--runtimeconfig", gatherer.with_suffix(".runtimeconfig.json"), gatherer)
    run(prefix, *words, "C:\\quay.gathered")
    made = fundamen("capture", "quay.capture", "--from", prefix / "drive_c/quay.gathered", "--yes", "--json")
    assert made.status == 0, made.err
    path = run(prefix, "cmd", "/c", "echo %PATH%").stdout.strip()
    for depth in ("needs", "used"):
        survey = ("survey", "--json", "--depth", depth, "-m")
        [there] = fundamen(*survey, tmp_path / "quay.capture").records
        [here] = fundamen(*survey, prefix, "--env", f"PATH={path}").records
        for record in (here, there):
            del record["machine"], record["next"], record["gaps"], record["certificates"]  # wine has roots of its own
        assert here == there
        assert "tide.dll" in [cause["name"] for cause in here["causes"]]
        assert "ebb.dll" in str(here["untraced"])


def test_a_capture_of_the_whole_prefix_is_small_and_surveyed_as_the_prefix_is(
    fundamen: Fundamen, prefix: Path, tmp_path: Path
) -> None:
    assert fundamen("capture", "whole.capture", "-m", prefix, "--all", "--yes").status == 0
    assert (tmp_path / "whole.capture").stat().st_size < 20 << 20
    [here], [there] = (
        fundamen("survey", "--json", "--depth", "used", "-m", machine).records for machine in (prefix, "whole.capture")
    )
    for record in (here, there):
        del record["machine"], record["next"]
    assert here == there
    assert here["certificates"] != []  # of the roots that wine brings along some have ended


def test_its_lines_of_powershell_are_well_formed_and_plain_text() -> None:
    import tree_sitter  # noqa: PLC0415
    import tree_sitter_powershell  # noqa: PLC0415

    assert SCRIPT.isascii()  # Windows PowerShell reads other letters in the system's own way
    parser = tree_sitter.Parser(tree_sitter.Language(tree_sitter_powershell.language()))
    assert not parser.parse(SCRIPT.encode()).root_node.has_error
    assert parser.parse(SCRIPT.replace("param(", "param((").encode()).root_node.has_error
