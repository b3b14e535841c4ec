"""The rules of the DLL search order, one case a rule."""

from itertools import product
from typing import Any

import pytest

from builders.api_set import a_schema
from builders.hive import a_hive
from builders.machine import AWindowsMachine
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.messages import say
from fundamen.model.verdict import Verdict
from wording import says

APP = "C:\\App\\app.exe"


def taken(windows: AWindowsMachine, name: str = "x.dll", **environment: str) -> str | None:
    return windows.need(APP, name, **environment).path


def test_the_programs_folder_comes_before_the_system_folder(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("X.dll",)).library("C:\\Windows\\System32\\x.dll")
    assert taken(windows, "X.dll") == "C:\\Windows\\System32\\x.dll"
    windows.library("C:\\App\\x.dll")
    assert taken(windows, "X.dll") == "C:\\App\\x.dll"


@pytest.mark.parametrize(("architecture", "folder"), [("x86_64", "System32"), ("x86", "SysWOW64")])
def test_each_width_has_its_own_system_folder(windows: AWindowsMachine, architecture: str, folder: str) -> None:
    windows.program(APP, architecture, needs=("x.dll",))
    windows.library("C:\\Windows\\System32\\x.dll", "x86_64").library("C:\\Windows\\SysWOW64\\x.dll", "x86")
    assert taken(windows) == f"C:\\Windows\\{folder}\\x.dll"


def test_a_32_bit_program_that_has_system32_on_its_path_sees_the_other_folder(windows: AWindowsMachine) -> None:
    windows.program(APP, "x86", needs=("x.dll",)).library("C:\\Windows\\System32\\x.dll", "x86")
    assert taken(windows, PATH="C:\\WINDOWS\\system32") is None


@pytest.mark.parametrize(
    ("named", "architecture", "place"),
    [
        ("C:\\Windows\\System32\\x.dll", "x86", "C:\\Windows\\SysWOW64\\x.dll"),
        ("C:\\Windows\\System32\\spool\\x.dll", "x86", "C:\\Windows\\System32\\spool\\x.dll"),
        ("C:\\Windows\\Sysnative\\x.dll", "x86", "C:\\Windows\\System32\\x.dll"),
        ("C:\\Windows\\System32\\x.dll", "x86_64", "C:\\Windows\\System32\\x.dll"),
    ],
)
def test_a_path_leads_where_a_process_of_its_width_leads(
    windows: AWindowsMachine, named: str, architecture: str, place: str
) -> None:
    windows.program(APP, architecture, needs=(named,)).library(place, architecture)
    assert taken(windows, named) == place


def test_a_library_of_the_other_width_is_passed_over_and_says_so(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x.dll",)).library("C:\\Windows\\System32\\x.dll", "x86")
    need = windows.need(APP, "x.dll")
    assert need.verdict is Verdict.WRONG_ARCHITECTURE
    assert [c.path for c in need.searched if c.outcome is CandidateOutcome.OTHER_ARCHITECTURE] == [
        "C:\\Windows\\System32\\x.dll"
    ]
    windows.library("D\\x.dll")
    windows.library("C:\\Tools\\x.dll")
    assert taken(windows, PATH='C:\\Nowhere;"C:\\Tools"') == "C:\\Tools\\x.dll"


def test_a_copy_in_the_system_folder_of_the_other_width_is_pointed_out(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x.dll",)).library("C:\\Windows\\SysWOW64\\x.dll", "x86_64")
    need = windows.need(APP, "x.dll")
    assert need.verdict is Verdict.MISSING
    assert need.reason == (
        say(
            "trace.a-copy-at",
            path="C:\\Windows\\SysWOW64\\x.dll",
            detail=say("loaders.is-for-in-a-folder-that", architecture="x86_64"),
        )
    )


def test_a_library_needed_only_at_a_call_does_not_keep_the_program_from_starting(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x.dll",), delayed=("late.dll",))
    windows.library("C:\\App\\x.dll").library("C:\\App\\late.dll", needs=("later.dll",))
    trace = windows.trace(APP)
    assert [(c.name, c.verdict, c.how) for c in trace.components if c.verdict.is_fault] == [
        ("later.dll", Verdict.MISSING, "delayed")
    ]
    assert trace.faults == ()


def test_names_of_api_sets_are_not_called_missing(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("api-ms-win-core-file-l1-2-0.dll",))
    assert windows.trace(APP).faults == ()


def test_a_name_without_an_ending_means_a_dll(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x",)).library("C:\\App\\x.dll")
    assert taken(windows, "x") == "C:\\App\\x.dll"


def test_a_function_that_a_library_does_not_offer_makes_it_outdated(windows: AWindowsMachine) -> None:
    windows.program(APP, needs={"x.dll": ("Old", "New", 1, 9)}).library("C:\\App\\x.dll", exports=("Old",))
    need = windows.need(APP, "x.dll")
    assert need.verdict is Verdict.OUTDATED
    assert says(need.reason, "trace.it-lacks-what-is-called", calls="app.exe calls New, #9")
    windows.library("C:\\App\\x.dll", exports=("Old", "New", *"abcdefg"))
    assert windows.trace(APP).faults == ()


def test_a_function_is_followed_through_libraries_that_pass_it_on(windows: AWindowsMachine) -> None:
    windows.program(APP, needs={"a.dll": ("Go", "Count")})
    windows.library("C:\\App\\a.dll", exports={"Go": "b.Go", "Count": "b.#1"})
    assert [(c.name, c.verdict, c.needed_by) for c in windows.trace(APP).faults] == [
        ("b.dll", Verdict.MISSING, ("C:\\App\\a.dll",))
    ]
    windows.library("C:\\App\\b.dll", exports={"Count": None, "Go": "c.Went"})
    assert [(c.name, c.verdict) for c in windows.trace(APP).faults] == [("c.dll", Verdict.MISSING)]
    windows.library("C:\\App\\c.dll", exports=("Gone",))
    [fault] = windows.trace(APP).faults
    assert (fault.name, fault.verdict) == ("a.dll", Verdict.OUTDATED)
    windows.library("C:\\App\\c.dll", exports=("Went",))
    assert windows.trace(APP).faults == ()


def test_libraries_that_pass_a_function_round_in_a_circle_do_not_offer_it(windows: AWindowsMachine) -> None:
    windows.program(APP, needs={"a.dll": ("Go",)})
    windows.library("C:\\App\\a.dll", exports={"Go": "b.Go"}).library("C:\\App\\b.dll", exports={"Go": "a.Go"})
    assert [(c.name, c.verdict) for c in windows.trace(APP).faults] == [("a.dll", Verdict.OUTDATED)]


def test_a_library_that_passes_functions_on_under_many_spellings_holds_no_one_up(
    windows: AWindowsMachine,
) -> None:
    spelled = ("".join(letters) for letters in product("aA", repeat=10))
    exports = {f"F{number}": f"{name}.F{number}" for number, name in enumerate(spelled)}
    windows.program(APP, needs={"a" * 10 + ".dll": tuple(exports)})
    windows.library("C:\\App\\" + "a" * 10 + ".dll", exports=exports)
    component = windows.need(APP, "a" * 10 + ".dll")
    assert (component.verdict, len(component.unoffered)) == (Verdict.OUTDATED, 1024)


def test_a_function_of_a_library_that_is_loaded_late_does_not_keep_the_program_from_starting(
    windows: AWindowsMachine,
) -> None:
    windows.program(APP, delayed={"late.dll": ("New",)}).library("C:\\App\\late.dll", exports=("Old",))
    assert windows.trace(APP).faults == ()


def with_registry(windows: AWindowsMachine, **session_manager: Any) -> AWindowsMachine:
    control = {"Control": {"Session Manager": session_manager}}
    return windows.file(
        "C:\\Windows\\System32\\config\\SYSTEM", a_hive({"Select": {"Current": 1}, "ControlSet001": control})
    )


def test_a_known_library_is_always_the_systems_own_copy_and_so_is_what_it_needs(windows: AWindowsMachine) -> None:
    with_registry(windows, KnownDLLs={"x": "X.dll", "DllDirectory": "C:\\Windows\\System32"})
    windows.program(APP, needs=("x.dll", "y.dll"))
    windows.library("C:\\App\\x.dll").library("C:\\App\\y.dll").library("C:\\App\\z.dll")
    windows.library("C:\\Windows\\System32\\x.dll", needs=("z.dll",)).library("C:\\Windows\\System32\\z.dll")
    paths = {component.name: component.path for component in windows.trace(APP).components}
    assert paths["x.dll"] == "C:\\Windows\\System32\\x.dll"
    assert paths["y.dll"] == "C:\\App\\y.dll"
    assert paths["z.dll"] == "C:\\Windows\\System32\\z.dll"


def test_a_library_that_is_excluded_from_the_known_ones_is_searched_for(windows: AWindowsMachine) -> None:
    with_registry(windows, KnownDLLs={"x": "x.dll"}, ExcludeFromKnownDlls=("X.DLL",))
    windows.program(APP, needs=("x.dll",)).library("C:\\App\\x.dll").library("C:\\Windows\\System32\\x.dll")
    assert taken(windows) == "C:\\App\\x.dll"


def test_the_search_path_comes_from_the_registry_unless_one_is_given(windows: AWindowsMachine) -> None:
    with_registry(windows, Environment={"Path": "%SystemRoot%\\Tools;C:\\Nowhere"})
    windows.program(APP, needs=("x.dll",)).library("C:\\Windows\\Tools\\x.dll").library("C:\\Given\\x.dll")
    assert taken(windows) == "C:\\Windows\\Tools\\x.dll"
    assert taken(windows, PATH="C:\\Given") == "C:\\Given\\x.dll"


def test_a_programs_own_path_in_the_registry_comes_before_the_search_path(windows: AWindowsMachine) -> None:
    app_paths = {"App Paths": {"app.exe": {"Path": "C:\\Own"}}}
    hive = a_hive({"Microsoft": {"Windows": {"CurrentVersion": app_paths}}})
    windows.file("C:\\Windows\\System32\\config\\SOFTWARE", hive)
    windows.program(APP, needs=("x.dll",)).library("C:\\Own\\x.dll").library("C:\\Given\\x.dll")
    assert taken(windows, PATH="C:\\Given") == "C:\\Own\\x.dll"


def test_a_folder_of_redirected_libraries_beside_the_program_is_searched_first(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x.dll",)).library("C:\\App\\x.dll").library(f"{APP}.local\\x.dll")
    assert taken(windows) == f"{APP}.local\\x.dll"


def test_api_sets_are_resolved_from_the_volumes_own_schema(windows: AWindowsMachine) -> None:
    schema = a_schema(6, {"ms-win-core-file-l1-2-0": [("", "kernelbase.dll")]})
    windows.library("C:\\Windows\\System32\\apisetschema.dll", section=(b".apiset", schema))
    windows.program(APP, needs={"api-ms-win-core-file-l1-2-1.dll": ("Open", "Shut"), "api-ms-win-odd-l1-1-0.dll": ()})
    windows.library("C:\\Windows\\System32\\kernelbase.dll", exports=("Open",))
    faults = [(fault.name, fault.verdict, fault.path) for fault in windows.trace(APP).faults]
    assert faults == [
        ("api-ms-win-core-file-l1-2-1.dll", Verdict.OUTDATED, "C:\\Windows\\System32\\kernelbase.dll"),
        ("api-ms-win-odd-l1-1-0.dll", Verdict.MISSING, None),
    ]


def test_on_a_partial_copy_what_every_windows_has_is_not_called_missing(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("KERNEL32.dll", "x.dll"))
    assert [fault.name for fault in windows.trace(APP).faults] == ["x.dll"]
    assert windows.need(APP, "KERNEL32.dll").verdict is Verdict.UNVERIFIED
    windows.system()  # with the innermost library it is no partial copy any more
    assert [fault.name for fault in windows.trace(APP).faults] == ["KERNEL32.dll", "x.dll"]


def test_an_api_set_is_missing_where_the_version_of_windows_does_not_have_it_yet(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("api-ms-win-crt-runtime-l1-1-0.dll",))
    build = {"Microsoft": {"Windows NT": {"CurrentVersion": {"CurrentBuildNumber": "7601"}}}}
    [fault] = windows.registry(build).trace(APP).faults
    assert fault.verdict is Verdict.MISSING
    assert says(fault.reason, "loaders.an-api-set-it-comes-and", own="Windows 7")
    windows.library("C:\\Windows\\System32\\api-ms-win-crt-runtime-l1-1-0.dll")
    assert windows.trace(APP).faults == ()
