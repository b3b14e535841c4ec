"""The rules of the .NET Framework: which generation a program gets, which assembly a reference."""

import pytest

from builders.hive import Key
from builders.machine import AWindowsMachine
from builders.managed import CORE, FRAMEWORK_TOKEN, token_of
from fundamen.messages import say
from fundamen.model.verdict import Verdict
from wording import says

APP = "C:\\App\\app.exe"
NET = "C:\\Windows\\Microsoft.NET"
KEY = token_of("ours")


def release(number: int, build: str = "19045") -> Key:
    ndp = {"NDP": {"v4": {"Full": {"Install": 1, "Release": number}}}}
    return {"Microsoft": {"NET Framework Setup": ndp, "Windows NT": {"CurrentVersion": {"CurrentBuildNumber": build}}}}


@pytest.fixture
def framework(windows: AWindowsMachine) -> AWindowsMachine:
    """A 64-bit system with release 4.7.2 of the framework, of which the cache holds System.Xml."""
    for folder, architecture in (("Framework64", "x86_64"), ("Framework", "x86")):
        windows.library(f"{NET}\\{folder}\\v4.0.30319\\clr.dll", architecture)
        windows.assembly(f"{NET}\\{folder}\\v4.0.30319\\mscorlib.dll", "4.0.0.0", refers_to=())
    windows.assembly(
        f"{NET}\\assembly\\GAC_MSIL\\System.Xml\\v4.0_4.0.0.0__{FRAMEWORK_TOKEN}\\System.Xml.dll", "4.0.0.0"
    )
    return windows.system().registry(release(461808))


def configured(windows: AWindowsMachine, startup: str = "", runtime: str = "") -> AWindowsMachine:
    binding = f'<assemblyBinding xmlns="urn:schemas-microsoft-com:asm.v1">{runtime}</assemblyBinding>'
    text = f"<configuration><startup>{startup}</startup><runtime>{binding}</runtime></configuration>"
    return windows.file(APP + ".config", text.encode())


def redirect(name: str, old: str, new: str) -> str:
    identity = f'<assemblyIdentity name="{name}" publicKeyToken="{KEY}" culture="neutral"/>'
    inside = f'{identity}<bindingRedirect oldVersion="{old}" newVersion="{new}"/>'
    return f"<dependentAssembly>{inside}</dependentAssembly>"


def faults(windows: AWindowsMachine) -> list[tuple[str, Verdict]]:
    return [(fault.name.partition(",")[0], fault.verdict) for fault in windows.trace(APP).faults]


def test_a_program_that_has_its_framework_and_all_assemblies_has_no_fault(framework: AWindowsMachine) -> None:
    framework.assembly(APP, refers_to=(CORE, f"System.Xml, 4.0.0.0, {FRAMEWORK_TOKEN}", "Lib, 1.0.0.0"))
    framework.assembly("C:\\App\\Lib.dll", "9.9.9.9")  # no one signed it: its version does not matter
    assert faults(framework) == []
    assert {c.name.partition(",")[0]: c.path for c in framework.trace(APP).components}["mscorlib"] == (
        f"{NET}\\Framework64\\v4.0.30319\\mscorlib.dll"
    )


@pytest.mark.parametrize(("flags", "width"), [(1, "x86_64"), (0x20003, "x86"), (3, "x86")])
def test_code_for_any_processor_runs_at_the_systems_width_unless_it_wants_32_bits(
    framework: AWindowsMachine, flags: int, width: str
) -> None:
    framework.assembly(APP, flags=flags)
    assert framework.trace(APP).architecture == width


def test_every_missing_assembly_is_found_in_one_pass_and_by_whom_it_is_needed(framework: AWindowsMachine) -> None:
    framework.assembly(APP, refers_to=(CORE, "One, 1.0.0.0", "Gone, 1.0.0.0"))
    framework.assembly("C:\\App\\One\\One.dll", refers_to=("Two, 1.0.0.0",))
    framework.assembly("C:\\App\\Two.exe", refers_to=("Three, 1.0.0.0",))
    assert faults(framework) == [("Gone", Verdict.MISSING), ("Three", Verdict.MISSING)]
    fault = framework.trace(APP).faults[1]
    assert fault.name == "Three, Version=1.0.0.0, Culture=neutral, PublicKeyToken=null"
    assert fault.chain == (APP, "C:\\App\\One\\One.dll", "C:\\App\\Two.exe")
    assert fault.gives_up_with == "0xE0434352, with the exception System.IO.FileNotFoundException (0x80070002)"


def test_probing_goes_to_private_paths_below_the_program_and_never_outside(framework: AWindowsMachine) -> None:
    framework.assembly(APP, refers_to=("Lib, 1.0.0.0",))
    framework.assembly("C:\\App\\lib\\deep\\Lib.dll").assembly("C:\\Other\\Lib.dll")
    assert faults(configured(framework, runtime='<probing privatePath="..\\Other;lib"/>')) == [("Lib", Verdict.MISSING)]
    assert faults(configured(framework, runtime='<probing privatePath="lib;lib\\deep"/>')) == []


def test_a_signed_assembly_must_have_exactly_the_version_unless_it_is_redirected(framework: AWindowsMachine) -> None:
    framework.assembly(APP, refers_to=(f"Lib, 2.0.0.0, {KEY}",)).assembly("C:\\App\\Lib.dll", "2.1.0.0", key="ours")
    [fault] = framework.trace(APP).faults
    assert (fault.verdict, fault.reason) == (
        Verdict.MISSING,
        say(
            "common.of-a-place",
            place="C:\\App\\Lib.dll",
            said=say("loaders.is-version-and-exactly-is-asked", version="2.1.0.0", wanted="2.0.0.0"),
        ),
    )
    configured(framework, runtime=redirect("lib", "0.0.0.0-2.0.9.9", "2.1.0.0"))
    assert faults(framework) == []
    framework.assembly("C:\\App\\Lib.dll", "1.0.0.0", key="ours")
    assert faults(framework) == [("Lib", Verdict.OUTDATED)]
    framework.assembly("C:\\App\\Lib.dll", "2.1.0.0", key="another's")
    assert says(framework.trace(APP).faults[0].reason, "loaders.is-signed-with-another-key")


def test_the_cache_goes_before_the_programs_folder_and_a_publishers_policy_before_both(
    framework: AWindowsMachine,
) -> None:
    cache = f"{NET}\\assembly\\GAC_MSIL"
    framework.assembly(APP, refers_to=(f"Lib, 2.0.0.0, {KEY}",)).assembly("C:\\App\\Lib.dll", "2.0.0.0", key="ours")
    framework.assembly(f"{cache}\\Lib\\v4.0_2.0.0.0__{KEY}\\Lib.dll", "2.0.0.0", key="ours")
    framework.assembly(f"{cache}\\Lib\\v4.0_2.3.0.0__{KEY}\\Lib.dll", "2.3.0.0", key="ours")
    [lib] = [c for c in framework.trace(APP).components if c.name.startswith("Lib")]
    assert lib.path == f"{cache}\\Lib\\v4.0_2.0.0.0__{KEY}\\Lib.dll"
    policy = f"<configuration><runtime>{redirect('Lib', '2.0.0.0', '2.3.0.0')}</runtime></configuration>"
    framework.file(f"{cache}\\policy.2.0.Lib\\v4.0_7.0.0.0__{KEY}\\policy.2.0.Lib.config", policy.encode())
    [lib] = [c for c in framework.trace(APP).components if c.name.startswith("Lib")]
    assert lib.path == f"{cache}\\Lib\\v4.0_2.3.0.0__{KEY}\\Lib.dll"
    assert says(lib.reason, "loaders.asks-for-instead", wanted="2.3.0.0")
    configured(framework, runtime='<publisherPolicy apply="no"/>')
    [lib] = [c for c in framework.trace(APP).components if c.name.startswith("Lib")]
    assert lib.path == f"{cache}\\Lib\\v4.0_2.0.0.0__{KEY}\\Lib.dll"


def test_an_assembly_for_another_processor_or_without_metadata_is_refused(framework: AWindowsMachine) -> None:
    framework.assembly(APP, refers_to=("Lib, 1.0.0.0", "Raw, 1.0.0.0"))
    framework.assembly("C:\\App\\Lib.dll", flags=3).library("C:\\App\\Raw.dll")
    assert faults(framework) == [("Lib", Verdict.WRONG_ARCHITECTURE), ("Raw", Verdict.CORRUPT)]


def test_native_libraries_that_managed_code_calls_are_found_by_the_image_loader(framework: AWindowsMachine) -> None:
    framework.assembly(APP, calls=("tide", "gone.dll")).library("C:\\App\\tide.dll", needs=("deep.dll",))
    late = {c.name: c.verdict for c in framework.trace(APP).components if c.how == "delayed"}
    assert late == {
        ".NETFramework,Version=v4.0": Verdict.UNVERIFIED,
        "tide": Verdict.UNVERIFIED,
        "gone.dll": Verdict.MISSING,
        "deep.dll": Verdict.MISSING,
    }
    assert faults(framework) == []


def test_what_the_native_half_of_a_mixed_assembly_needs_is_followed(framework: AWindowsMachine) -> None:
    framework.assembly(APP, refers_to=("Mixed, 1.0.0.0", "Pure, 1.0.0.0"))
    framework.assembly("C:\\App\\Pure.dll", needs=("mscoree.dll",))
    framework.assembly("C:\\App\\Mixed.dll", needs=("native.dll",), flags=0, architecture="x86_64")
    assert faults(framework) == [("native.dll", Verdict.MISSING)]


@pytest.mark.parametrize(
    ("target", "sku", "expected"),
    [
        ("v4.7.2", "v4.7.2", []),
        ("v4.8", "", []),  # without a word in its configuration file it starts, and may stop at a call
        ("v4.8", "v4.8", [(".NETFramework", Verdict.OUTDATED)]),
    ],
)
def test_a_release_is_required_where_the_configuration_file_asks_for_it(
    framework: AWindowsMachine, target: str, sku: str, expected: list[tuple[str, Verdict]]
) -> None:
    framework.assembly(APP, target=f".NETFramework,Version={target}")
    configured(
        framework, startup=f'<supportedRuntime version="v4.0" sku=".NETFramework,Version={sku}"/>' if sku else ""
    )
    assert faults(framework) == expected


def test_the_older_generation_is_said_to_be_switched_off_where_it_is_a_part_of_the_system(
    framework: AWindowsMachine,
) -> None:
    old = f"mscorlib, 2.0.0.0, {FRAMEWORK_TOKEN}", f"System.Core, 3.5.0.0, {FRAMEWORK_TOKEN}"
    framework.assembly(APP, runtime="v2.0.50727", refers_to=old)
    [fault] = framework.trace(APP).faults  # and not also each assembly that the framework would bring
    assert (fault.name, fault.verdict) == (".NETFramework,Version=v3.5", Verdict.BLOCKED)
    assert "Microsoft-Windows-NetFx3-OnDemand-Package~31bf3856ad364e35~amd64~~.cab" in fault.reason
    assert faults(configured(framework, startup='<supportedRuntime version="v4.0"/>')) == [
        ("System.Core", Verdict.MISSING)
    ]
    configured(framework).registry(
        release(461808, build="7601")
    )  # the last build in which it could not be switched off
    assert faults(framework) == [(".NETFramework", Verdict.MISSING)]


def test_a_damaged_configuration_file_is_a_fault_and_hides_no_other(framework: AWindowsMachine) -> None:
    framework.assembly(APP, refers_to=("Gone, 1.0.0.0",)).file(APP + ".config", b"<configuration>")
    assert faults(framework) == [("app.exe.config", Verdict.CORRUPT), ("Gone", Verdict.MISSING)]
