"""Which processes a system runs and which images each takes; the hybrid images are a linker's own."""

from pathlib import Path

import pytest

from builders.machine import AWindowsMachine
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import read_pe
from fundamen.model.architecture import Architecture
from fundamen.model.verdict import Verdict

APP, LIBRARY = "C:\\App\\app.exe", "C:\\App\\x.dll"
DATA = Path(__file__).parent.parent / "data"
IMAGES = {name: (DATA / f"{name}.dll").read_bytes() for name in ("arm64ec", "arm64x")}


def on_arm64(windows: AWindowsMachine) -> AWindowsMachine:
    """An ARM64 system whose own libraries serve x86_64 processes too, as they do from Windows 11 on."""
    windows.library("C:\\Windows\\SysWOW64\\ntdll.dll", "x86")
    return windows.file("C:\\Windows\\System32\\ntdll.dll", IMAGES["arm64x"])


def placed(windows: AWindowsMachine, image: str) -> AWindowsMachine:
    return windows.file(LIBRARY, IMAGES[image]) if image in IMAGES else windows.library(LIBRARY, image)


def test_a_hybrid_image_tells_what_its_header_leaves_out() -> None:
    found = {name: read_pe(MemoryBytes(data)) for name, data in IMAGES.items()}
    assert {name: (pe.machine, pe.architecture, pe.also_for) for name, pe in found.items()} == {
        "arm64ec": (0x8664, Architecture.ARM64EC, ()),
        "arm64x": (0xAA64, Architecture.AARCH64, (Architecture.ARM64EC,)),
    }


@pytest.mark.parametrize(
    ("program", "taken", "refused"),
    [
        ("x86_64", ("x86_64", "arm64ec", "arm64x"), ("aarch64", "x86")),
        ("aarch64", ("aarch64", "arm64x"), ("x86_64", "arm64ec", "x86")),
        ("x86", ("x86",), ("x86_64", "aarch64", "arm64ec", "arm64x")),
    ],
)
def test_on_an_arm64_system_each_process_takes_its_own_images(
    windows: AWindowsMachine, program: str, taken: tuple[str, ...], refused: tuple[str, ...]
) -> None:
    on_arm64(windows).program(APP, program, needs=("x.dll",))
    for image in taken:
        assert placed(windows, image).trace(APP).faults == (), image
    for image in refused:
        [fault] = placed(windows, image).trace(APP).faults
        assert (fault.name, fault.verdict) == ("x.dll", Verdict.WRONG_ARCHITECTURE), image


def test_on_an_x86_64_system_no_hybrid_image_is_taken(windows: AWindowsMachine) -> None:
    windows.system().program(APP, needs=("x.dll",))
    for image in IMAGES:
        assert placed(windows, image).need(APP, "x.dll").verdict is Verdict.WRONG_ARCHITECTURE


@pytest.mark.parametrize(
    ("program", "reason"),
    [
        ("aarch64", "it is for aarch64, and this machine runs x86_64 and x86"),
        ("x86", "it is for x86, and this machine runs x86_64"),
        ("x86_64", None),
    ],
)
def test_a_program_that_the_system_does_not_run_is_at_fault_itself(
    windows: AWindowsMachine, program: str, reason: str | None
) -> None:
    windows.system().program(APP, program, needs=("gone.dll",) if reason else ())
    if program == "x86":
        (windows.root / "Windows" / "SysWOW64" / "ntdll.dll").unlink()
    assert [fault.reason for fault in windows.trace(APP).faults] == ([reason] if reason else [])


def test_where_the_volume_does_not_tell_what_it_runs_nothing_is_held_against_a_program(
    windows: AWindowsMachine,
) -> None:
    windows.program(APP, "aarch64", needs=("x.dll",)).library(LIBRARY, "aarch64")
    assert windows.trace(APP).faults == ()
