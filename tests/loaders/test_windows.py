"""The rules of the DLL search order, one case a rule."""

import pytest

from builders.machine import AWindowsMachine
from fundamen.loaders.load_map import Outcome
from fundamen.model.verdict import Verdict

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


def test_a_library_of_the_other_width_is_passed_over_and_says_so(windows: AWindowsMachine) -> None:
    windows.program(APP, needs=("x.dll",)).library("C:\\Windows\\System32\\x.dll", "x86")
    need = windows.need(APP, "x.dll")
    assert need.verdict is Verdict.WRONG_ARCHITECTURE
    assert [c.path for c in need.searched if c.outcome is Outcome.OTHER_ARCHITECTURE] == [
        "C:\\Windows\\System32\\x.dll"
    ]
    windows.library("D\\x.dll")
    windows.library("C:\\Tools\\x.dll")
    assert taken(windows, PATH='C:\\Nowhere;"C:\\Tools"') == "C:\\Tools\\x.dll"


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
