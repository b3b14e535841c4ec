"""The rules of side-by-side assemblies, one case a rule."""

import pytest

from builders.machine import AWindowsMachine
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Component

APP = "C:\\App\\app.exe"
STORE = "C:\\Windows\\WinSxS"
ASSEMBLY = '<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">{}</assembly>'


def identity(name: str = "Ardvane.Saltgrass", version: str = "4.2.0.0", architecture: str = "*") -> str:
    facts = f'name="{name}" version="{version}" processorArchitecture="{architecture}"'
    return f'<assemblyIdentity type="win32" {facts} publicKeyToken="0123456789abcdef"/>'


def asking(redirect: str = "", **wanted: str) -> str:
    """A manifest that asks for an assembly."""
    return ASSEMBLY.format(
        f"<dependency><dependentAssembly>{identity(**wanted)}{redirect}</dependentAssembly></dependency>"
    )


def offering(*files: str, **own: str) -> str:
    """An assembly's own manifest."""
    return ASSEMBLY.format(identity(**own) + "".join(f'<file name="{file}"/>' for file in files))


def stored(windows: AWindowsMachine, version: str, architecture: str = "amd64", name: str = "ardvane.saltgrass") -> str:
    """Put an assembly with x.dll into the component store, and give its folder."""
    folder = f"{architecture}_{name}_0123456789abcdef_{version}_none_0a1b2c"
    manifest = offering("x.dll", version=version)
    windows.file(f"{STORE}\\Manifests\\{folder}.manifest", manifest.encode())
    windows.library(f"{STORE}\\{folder}\\x.dll", "x86_64" if architecture == "amd64" else "x86")
    return f"{STORE}\\{folder}"


def component(windows: AWindowsMachine, start: str) -> Component:
    [found] = [c for c in windows.trace(APP).components if c.name.startswith(start)]
    return found


def test_a_dll_of_an_assembly_in_the_store_comes_before_one_beside_the_program(windows: AWindowsMachine) -> None:
    folder = stored(windows, "4.2.1.7")
    windows.program(APP, needs=("x.dll",), manifest=asking()).library("C:\\App\\x.dll")
    assert component(windows, "x.dll").path == f"{folder}\\x.dll"
    assert windows.trace(APP).faults == ()


def test_the_highest_version_that_serves_is_taken(windows: AWindowsMachine) -> None:
    for version in ("4.1.9.9", "4.2.1.7", "4.2.10.0", "4.3.0.0"):
        stored(windows, version)
    windows.program(APP, needs=("x.dll",), manifest=asking())
    assert "_4.2.10.0_" in str(component(windows, "x.dll").path)


def test_a_publishers_policy_puts_another_version_in_place(windows: AWindowsMachine) -> None:
    stored(windows, "4.2.1.7")
    stored(windows, "4.5.0.0")
    redirect = '<bindingRedirect oldVersion="4.2.0.0-4.2.65535.65535" newVersion="4.5.0.0"/>'
    policy = "amd64_policy.4.2.ardvane.saltgrass_0123456789abcdef_4.5.0.0_none_0a"
    windows.file(f"{STORE}\\Manifests\\{policy}.manifest", asking(redirect).encode())
    windows.program(APP, needs=("x.dll",), manifest=asking())
    assert "_4.5.0.0_" in str(component(windows, "x.dll").path)


@pytest.mark.parametrize(
    ("installed", "verdict", "said"),
    [
        ([], Verdict.MISSING, "side-by-side configuration is incorrect"),
        ([("4.1.0.0", "amd64"), ("3.0.0.0", "amd64")], Verdict.OUTDATED, "is version 4.1.0.0 and is version 3.0.0.0"),
        ([("4.2.0.0", "x86")], Verdict.WRONG_ARCHITECTURE, "is for x86"),
    ],
)
def test_an_assembly_that_does_not_stand_is_named_in_full(
    windows: AWindowsMachine, installed: list[tuple[str, str]], verdict: Verdict, said: str
) -> None:
    for version, architecture in installed:
        stored(windows, version, architecture)
    windows.program(APP, manifest=asking())
    [fault] = windows.trace(APP).faults
    assert (fault.kind, fault.name) == (
        "side-by-side-assembly",
        "Ardvane.Saltgrass, 4.2.0.0, any architecture, key 0123456789abcdef",
    )
    assert fault.verdict is verdict
    assert said in fault.reason


@pytest.mark.parametrize("place", ["Ardvane.Saltgrass.manifest", "Ardvane.Saltgrass\\Ardvane.Saltgrass.manifest"])
def test_a_private_assembly_lies_beside_the_program(windows: AWindowsMachine, place: str) -> None:
    windows.program(APP, needs=("x.dll",), manifest=asking())
    windows.file(f"C:\\App\\{place}", offering("x.dll").encode())
    folder = f"C:\\App\\{place}".rpartition("\\")[0]
    windows.library(f"{folder}\\x.dll")
    assert component(windows, "x.dll").path == f"{folder}\\x.dll"


def test_an_assembly_in_one_dll_carries_its_manifest_itself(windows: AWindowsMachine) -> None:
    windows.program(APP, manifest=asking()).library("C:\\App\\Ardvane.Saltgrass.dll", manifest=offering())
    assert component(windows, "Ardvane.Saltgrass").path == "C:\\App\\Ardvane.Saltgrass.dll"


def test_a_program_without_a_manifest_inside_has_it_beside(windows: AWindowsMachine) -> None:
    windows.program(APP).file(APP + ".manifest", asking().encode())
    assert [fault.kind for fault in windows.trace(APP).faults] == ["side-by-side-assembly"]


def test_a_library_has_assemblies_of_its_own(windows: AWindowsMachine) -> None:
    folder = stored(windows, "4.2.0.0")
    windows.program(APP, needs=("y.dll", "x.dll")).library("C:\\App\\x.dll")
    windows.library("C:\\App\\y.dll", needs=("x.dll",), manifest=asking())
    paths = {c.path for c in windows.trace(APP).components if c.name == "x.dll"}
    assert paths == {"C:\\App\\x.dll", f"{folder}\\x.dll"}
    windows.library("C:\\App\\z.dll", needs=("x.dll",)).program(APP, needs=("y.dll", "z.dll"))
    needers = {c.path: c.needed_by for c in windows.trace(APP).components if c.name == "x.dll"}
    assert needers[MachinePath(f"{folder}\\x.dll")] == ("C:\\App\\y.dll",)


def test_a_file_that_an_assembly_names_and_does_not_have_is_missing(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x.dll",), manifest=asking()).library("C:\\App\\x.dll")
    windows.file("C:\\App\\Ardvane.Saltgrass\\Ardvane.Saltgrass.manifest", offering("x.dll").encode())
    [fault] = windows.trace(APP).faults
    assert (fault.name, fault.verdict) == ("x.dll", Verdict.MISSING)
    assert fault.searched[0].path == "C:\\App\\Ardvane.Saltgrass\\x.dll"
