"""The rules of shared frameworks: the host, the version it picks, the assemblies it lists."""

import json
from typing import Any

import pytest

from builders.machine import AWindowsMachine
from fundamen.messages import say
from fundamen.model.verdict import Verdict

APP = "C:\\App\\app.exe"
DOTNET = "C:\\Program Files\\dotnet"
CORE = "Microsoft.NETCore.App"


def configured(windows: AWindowsMachine, version: str = "6.0.0", **options: Any) -> AWindowsMachine:
    content = {"runtimeOptions": {"framework": {"name": CORE, "version": version}, **options}}
    return windows.file("C:\\App\\app.runtimeconfig.json", json.dumps(content).encode())


def listed(windows: AWindowsMachine, place: str, **packages: Any) -> AWindowsMachine:
    content = {"runtimeTarget": {"name": "net"}, "targets": {"net": packages}}
    return windows.file(place, json.dumps(content).encode())


def framework(windows: AWindowsMachine, version: str, root: str = DOTNET, architecture: str = "x86_64") -> None:
    folder = f"{root}\\shared\\{CORE}\\{version}"
    for library in ("hostpolicy.dll", "coreclr.dll"):
        windows.library(f"{folder}\\{library}", architecture)
    windows.assembly(f"{folder}\\System.Runtime.dll", "6.0.0.0", refers_to=())
    part = {"runtime": {"System.Runtime.dll": {"assemblyVersion": "6.0.0.0"}}}
    listed(windows, f"{folder}\\{CORE}.deps.json", **{"Runtime/6.0.0": part})


@pytest.fixture
def hosted(windows: AWindowsMachine) -> AWindowsMachine:
    """A program with a library, for framework 6.0, of which 6.0.5 is installed."""
    windows.system().library(f"{DOTNET}\\host\\fxr\\6.0.5\\hostfxr.dll")
    framework(windows, "6.0.5")
    windows.program(APP).assembly("C:\\App\\app.dll", refers_to=("System.Runtime, 6.0.0.0", "Lib, 1.0.0.0"))
    windows.assembly("C:\\App\\Lib.dll", refers_to=())
    return configured(windows)


def faults(windows: AWindowsMachine) -> list[tuple[str, Verdict]]:
    return [(fault.name.partition(",")[0], fault.verdict) for fault in windows.trace(APP).faults]


def test_a_program_that_has_host_framework_and_assemblies_has_no_fault(hosted: AWindowsMachine) -> None:
    trace = hosted.trace(APP)
    assert trace.faults == ()
    [found] = [c for c in trace.components if c.kind == "framework"]
    assert found.reason == say(
        "loaders.version-is-asked-for-installed-the",
        version="6.0.0",
        has="6.0.5",
        roll_forward="Minor",
        verb="takes 6.0.5",
    )


def test_a_framework_that_the_rule_refuses_is_named_with_what_is_there_instead(hosted: AWindowsMachine) -> None:
    [fault] = configured(hosted, "5.0.0").trace(APP).faults
    assert (fault.name, fault.verdict) == (f"{CORE} 5.0.0", Verdict.MISSING)
    assert fault.reason == say(
        "loaders.version-is-asked-for-installed-the",
        version="5.0.0",
        has="6.0.5",
        roll_forward="Minor",
        verb=say("loaders.accepts-none-of-them"),
    )
    assert fault.gives_up_with == "0x80008096 FrameworkMissingFailure"
    assert faults(configured(hosted, "5.0.0", rollForward="Major")) == []
    assert faults(configured(hosted, "6.0.9")) == [(f"{CORE} 6.0.9", Verdict.OUTDATED)]


def test_a_framework_of_the_other_width_only_is_of_the_wrong_architecture(hosted: AWindowsMachine) -> None:
    narrow = "C:\\Program Files (x86)\\dotnet"
    framework(hosted, "7.0.1", narrow, "x86")
    hosted.library(f"{narrow}\\host\\fxr\\7.0.1\\hostfxr.dll", "x86")
    assert faults(configured(hosted, "7.0.0")) == [(f"{CORE} 7.0.0", Verdict.WRONG_ARCHITECTURE)]


def test_frameworks_that_a_framework_asks_for_are_found_too(hosted: AWindowsMachine) -> None:
    desktop = f"{DOTNET}\\shared\\Desktop\\6.0.1"
    listed(hosted, f"{desktop}\\Desktop.deps.json")
    further = {"runtimeOptions": {"framework": {"name": "Base", "version": "2.0.0"}}}
    hosted.file(f"{desktop}\\Desktop.runtimeconfig.json", json.dumps(further).encode())
    configured(hosted, frameworks=[{"name": "Desktop", "version": "6.0.0"}])
    [fault] = hosted.trace(APP).faults
    assert (fault.name, fault.needed_by) == ("Base 2.0.0", (desktop,))


def test_the_place_of_installation_in_the_registry_goes_before_the_usual_one(hosted: AWindowsMachine) -> None:
    installed = {"WOW6432Node": {"dotnet": {"Setup": {"InstalledVersions": {"x64": {"InstallLocation": "D:\\net"}}}}}}
    assert faults(hosted.registry(installed)) == [("hostfxr.dll", Verdict.MISSING), (f"{CORE} 6.0.0", Verdict.MISSING)]


def test_what_is_listed_and_not_there_keeps_the_program_from_starting(hosted: AWindowsMachine) -> None:
    packages: dict[str, Any] = {
        "App/1.0.0": {"runtime": {"app.dll": {}}},
        "Lib/1.2.0": {"runtime": {"lib/net6.0/Lib.dll": {}}},
    }
    listed(hosted, "C:\\App\\app.deps.json", **packages)
    assert faults(hosted) == []
    assets = {"runtimes/win/lib/Wide.dll": {"rid": "win-x64"}, "runtimes/unix/lib/Else.dll": {"rid": "unix"}}
    packages["Wide/3.0.0"] = {"runtimeTargets": assets, "native": {"runtimes/win/native/deep.dll": {}}}
    listed(hosted, "C:\\App\\app.deps.json", **packages)
    assert faults(hosted) == [("deep.dll", Verdict.MISSING), ("Wide", Verdict.MISSING)]
    assert hosted.trace(APP).faults[0].searched[0].because == say(
        "loaders.listed-for-the-package", package="Wide", version="3.0.0"
    )


def test_a_file_that_the_list_does_not_name_is_not_taken(hosted: AWindowsMachine) -> None:
    listed(hosted, "C:\\App\\app.deps.json", **{"App/1.0.0": {"runtime": {"app.dll": {}}}})
    assert faults(hosted) == [("Lib", Verdict.MISSING)]


def test_an_older_assembly_than_the_one_referred_to_is_outdated(hosted: AWindowsMachine) -> None:
    hosted.assembly("C:\\App\\Lib.dll", "0.9.0.0", refers_to=())
    assert faults(hosted) == [("Lib", Verdict.OUTDATED)]


@pytest.mark.parametrize(
    ("file", "verdict"), [("app.runtimeconfig.json", Verdict.CORRUPT), ("app.deps.json", Verdict.CORRUPT)]
)
def test_a_damaged_file_of_the_hosts_is_named(hosted: AWindowsMachine, file: str, verdict: Verdict) -> None:
    hosted.file(f"C:\\App\\{file}", b'{"runtimeOptions": ')
    assert (file, verdict) in faults(hosted)


def test_a_program_that_brings_its_runtime_along_needs_no_framework(hosted: AWindowsMachine) -> None:
    hosted.file("C:\\App\\app.runtimeconfig.json", b'{"runtimeOptions": {"includedFrameworks": []}}')
    hosted.assembly("C:\\App\\System.Runtime.dll", "6.0.0.0", refers_to=()).library("C:\\App\\hostfxr.dll")
    missing = [name.rpartition("\\")[2] for name, verdict in faults(hosted) if verdict is Verdict.MISSING]
    assert missing == ["hostpolicy.dll", "coreclr.dll"]
