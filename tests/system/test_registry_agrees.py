"""Our writing into a prefix's registry is read by its own tool, and an undo after that restores it."""

import json
import os
import subprocess
from pathlib import Path

import pytest

from builders.prefix import a_prefix
from conftest import Fundamen
from fundamen.machine.opening import open_machine

pytestmark = [
    pytest.mark.system,
    pytest.mark.xdist_group("wine"),
    pytest.mark.skipif(not Path("/usr/lib/wine/wine64").exists(), reason="no wine"),
]

KEY, SERVICE = "HKLM\\Software\\Tide", "HKLM\\System\\CurrentControlSet\\Services\\MSIServer"
ODD, LONG = 'a [b] "c" ü', "HKEY_LOCAL_MACHINE\\Software\\Tide"
TEXTS = ["Marram", 'a "b" c', "back\\slash\\", "ü ☺ 𝄞", "line\nbreak", "%PATH%;x", "1 \t2", "=x", "[y]"]


def asked(prefix: Path, *words: str) -> str:
    """The output of a program of the prefix, once the prefix is idle."""
    environment = {**os.environ, "WINEPREFIX": str(prefix), "WINEDEBUG": "-all", "WINEDLLOVERRIDES": "mscoree,mshtml="}
    ran = subprocess.run(["/usr/lib/wine/wine64", *words], env=environment, capture_output=True, check=False)
    subprocess.run(["/usr/lib/wine/wineserver64", "-w"], env=environment, check=True)
    return ran.stdout.decode("utf-8", "replace")


def exported(prefix: Path, key: str) -> str:
    """A key as the prefix's own registry tool exports it."""
    asked(prefix, "reg", "export", key, "C:\\it.reg", "/y")
    return (prefix / "drive_c/it.reg").read_bytes().decode("utf-16")


def escaped(text: str) -> str:
    """A text as that tool writes it."""
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")


def test_a_prefix_reads_what_was_written_and_an_undo_puts_just_that_back(
    tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, fundamen: Fundamen
) -> None:
    prefix = a_prefix(tmp_path_factory)
    asked(prefix, "reg", "add", KEY, "/v", "Station", "/d", "Before")
    start = open_machine(str(prefix), environment={}).registry.value(SERVICE, "Start")
    texts = [(f"T{number}", text) for number, text in enumerate(TEXTS)]
    steps = [{"do": "set registry value", "path": KEY, "name": name, "value": text} for name, text in texts]
    steps += [
        {"do": "set registry value", "path": KEY, "name": "station", "value": "After"},
        {"do": "set registry value", "path": f"{KEY}\\Below", "name": "Depth", "value": 0xFFFFFFFE},  # type: ignore[dict-item]
        {"do": "set registry value", "path": KEY, "name": "Many", "value": ["1", "22", "7"]},  # type: ignore[dict-item]
        {"do": "set registry value", "path": f"{KEY}\\{ODD}", "name": "Odd", "value": "yes"},
        {"do": "enable service", "path": SERVICE, "name": "MSIServer"},
    ]
    plan = {"schema": "fundamen.plan/1", "program": "C:\\x.exe", "machine": "it", "made_at": "2026-01-01T00:00:00Z"}
    (tmp_path / "it.plan").write_text(json.dumps({**plan, "steps": steps}))
    ran = fundamen("plans", "run", "--yes", "-m", str(prefix), "it.plan")
    assert ran.status == 0, ran.err
    answer = exported(prefix, KEY)
    assert [text for text in TEXTS if escaped(text) not in answer] == []
    assert '"Station"="After"' in answer
    assert f"[{LONG}\\{ODD}]" in answer
    assert '"Depth"=dword:fffffffe' in answer
    assert "31,00,00,00,32,00,32,00,00,00,37,00,00,00,00,00" in answer.replace("\\\r\n  ", "")
    assert '"Start"=dword:00000002' in exported(prefix, SERVICE)
    assert fundamen("undo", "-m", str(prefix)).status == 0  # the prefix has written its registry again since
    answer = exported(prefix, KEY)
    assert ('"Station"="Before"' in answer, '"T0"' in answer, '"Many"' in answer, '"Depth"' in answer) == (
        True,
        *[False] * 3,
    )
    assert open_machine(str(prefix), environment={}).registry.value(SERVICE, "Start") == start
