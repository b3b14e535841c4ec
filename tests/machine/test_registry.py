import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.hive import a_hive
from builders.machine import AWindowsMachine
from builders.winreg import a_winreg
from fundamen.formats.windows.text_hive import TextHive
from fundamen.machine.opening import open_machine
from fundamen.machine.registry_live import LiveRegistry
from fundamen.model.errors import DamagedFileError

SYSTEM_REG = rb"""WINE REGISTRY Version 2
;; All keys relative to REGISTRY\\Machine

#arch=win64

[Software\\Ardvane\\Saltgrass Runtime\\4.2] 1795420712
#time=1dd7b206f2ec8f6
@="the unnamed one"
"Build"=dword:0000002a
"Folder"=str(2):"%ProgramFiles%\\Saltgrass"
"Name"="Saltgrass \"Runtime\"\x2122\n"
"Parts"=str(7):"core\0tide\0"
"Seal"=hex:01,02,\
  03,ff

[Software\\Ardvane\\Tidebook] 1795420712

[System\\CurrentControlSet\\Control\\Session Manager\\Environment] 1795420712
"PATH"=str(2):"%SystemRoot%\\system32;C:\\Tools"
"""


def test_a_prefix_keeps_its_registry_as_text(tmp_path: Path) -> None:
    (tmp_path / "drive_c" / "windows" / "system32").mkdir(parents=True)
    (tmp_path / "system.reg").write_bytes(SYSTEM_REG)
    registry = open_machine(str(tmp_path)).registry
    assert registry.values("HKLM\\software\\ARDVANE\\Saltgrass Runtime\\4.2") == {
        "": "the unnamed one",
        "Build": 42,
        "Folder": "%ProgramFiles%\\Saltgrass",
        "Name": 'Saltgrass "Runtime"\u2122\n',
        "Parts": ("core", "tide"),
        "Seal": b"\x01\x02\x03\xff",
    }
    assert registry.subkeys("HKLM\\Software\\Ardvane") == ("Saltgrass Runtime", "Tidebook")
    assert registry.values("HKLM\\Software\\Ardvane\\Tidebook") == {}
    assert registry.values("HKLM\\Software\\Nobody") is None
    assert registry.gaps == ("user.reg: No such file or directory",)


@given(st.binary(max_size=200), st.integers(0, len(SYSTEM_REG)))
def test_a_changed_text_hive_is_read_or_refused(noise: bytes, at: int) -> None:
    try:
        hive = TextHive(SYSTEM_REG[:at] + noise + SYSTEM_REG[at:])
    except DamagedFileError:
        assert at < 30
        return
    for key in ("Software\\Ardvane\\Saltgrass Runtime\\4.2", "Software"):
        assert isinstance(hive.values(key), dict | None)
        assert isinstance(hive.subkeys(key), tuple)


def a_system_hive(**control: Any) -> bytes:
    return a_hive(
        {"Select": {"Current": 2}, "ControlSet001": {}, "ControlSet002": {"Control": {"Session Manager": control}}}
    )


def test_a_volume_keeps_its_registry_in_hives(windows: AWindowsMachine) -> None:
    hive = a_system_hive(ExcludeFromKnownDlls=("a.dll", "b.dll"), KnownDLLs={"x": "X.dll"}, Heap=7)
    windows.file("C:\\Windows\\System32\\config\\SYSTEM", hive)
    registry = windows.opened().registry
    manager = r"HKLM\System\CurrentControlSet\Control\Session Manager"
    assert registry.values(manager) == {"ExcludeFromKnownDlls": ("a.dll", "b.dll"), "Heap": 7}
    assert registry.subkeys(manager) == ("KnownDLLs",)
    assert registry.text(manager + "\\KnownDLLs", "X") == "X.dll"
    assert registry.values(r"HKLM\System\CurrentControlSet\Nothing") is None
    assert registry.values(r"HKLM\Software\Nothing") is None
    assert registry.gaps == ()


@pytest.mark.parametrize("size", [0, 3, 100, 4096, 4200, 5000])
def test_a_cut_hive_is_a_gap_or_gives_nothing_and_the_machine_is_still_examined(
    windows: AWindowsMachine, size: int
) -> None:
    windows.file("C:\\Windows\\System32\\config\\SYSTEM", a_system_hive(Heap=7)[:size])
    windows.program("C:\\App\\app.exe", needs=("x.dll",)).library("C:\\App\\x.dll")
    assert windows.trace("C:\\App\\app.exe").faults == ()


def test_a_hive_changed_at_any_byte_never_stops_an_examination(windows: AWindowsMachine) -> None:
    hive = a_system_hive(KnownDLLs={"x": "x.dll"})
    for at in [*range(0, 520, 7), *range(4096, 4900, 5)]:
        changed = hive[:at] + bytes([hive[at] ^ 0xFF]) + hive[at + 1 :]
        windows.file("C:\\Windows\\System32\\config\\SYSTEM", changed)
        windows.opened().registry.values(r"HKLM\System\CurrentControlSet\Control\Session Manager\KnownDLLs")


def test_a_hive_that_was_not_closed_cleanly_is_read_and_said(windows: AWindowsMachine) -> None:
    hive = bytearray(a_hive({"Salt": {"Build": 42}}))
    hive[4] += 1  # the first of its two sequence numbers: written before a change, the second after it
    registry = windows.file("C:\\Windows\\System32\\config\\SOFTWARE", bytes(hive)).opened().registry
    assert registry.value("HKLM\\Software\\Salt", "Build") == 42
    assert [gap.code for gap in registry.gaps] == ["machine.it-was-not-closed-cleanly-its"]


def test_the_live_registry_is_read_as_a_64_bit_program_sees_it(monkeypatch: pytest.MonkeyPatch) -> None:
    content = {
        "Software": {"Salt": {"": "x", "Build": 42, "Parts": ["a", "b"], "Seal": b"\1", "Empty": None, "Sub": {}}}
    }
    monkeypatch.setitem(sys.modules, "winreg", a_winreg(content))
    registry = LiveRegistry()
    assert registry.values("HKLM\\software\\salt") == {
        "": "x",
        "Build": 42,
        "Parts": ("a", "b"),
        "Seal": b"\1",
        "Empty": "",
    }
    assert (registry.subkeys("HKLM\\Software\\Salt"), registry.values("HKLM\\Software\\Gone")) == (("Sub",), None)
    assert registry.values("HKCR\\Software") is None
