"""Programs are run under wine, and what their loader does as they run is seen; the prefix is as it was afterwards."""

import json
import os
import re
import subprocess
import time
from pathlib import Path

import pytest

from builders.prefix import a_prefix
from conftest import Fundamen
from fundamen.machine.observation import Observation
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.trace.observing_prefix import Wine, find_wine, observe

pytestmark = [pytest.mark.system, pytest.mark.xdist_group("wine")]

SOURCE = """
#include <windows.h>
#include <stdio.h>
int main(int count, char **words) {
  switch (KIND) {
    case 'l': LoadLibraryA("late.dll"); LoadLibraryA("gone.dll"); fprintf(stderr, "own words\\n"); return 7;
    case 's': Sleep(60000); return 0;
    case 'w': { HKEY key; RegCreateKeyA(HKEY_CURRENT_USER, "Software\\\\Tidebook", &key); return 0; }
  }
  return 1;
}
"""


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A prefix with three programs: one loads libraries as it runs, one sleeps, one writes to the registry."""
    folder = a_prefix(tmp_path_factory)
    app = folder / "drive_c" / "app"
    app.mkdir()
    (app / "app.c").write_text(SOURCE)
    (app / "late.c").write_text("__declspec(dllexport) int late(void) { return 1; }")
    compiler = "x86_64-w64-mingw32-gcc"
    subprocess.run([compiler, "-shared", "-o", "late.dll", "late.c"], cwd=app, check=True)
    for name, kind in (("loads", "l"), ("sleeps", "s"), ("writes", "w")):
        subprocess.run([compiler, f"-DKIND='{kind}'", "-o", f"{name}.exe", "app.c"], cwd=app, check=True)
    return folder


@pytest.fixture
def wine() -> Wine:
    return find_wine(os.environ["PATH"])


def observed(prefix: Path, name: str, wine: Wine, seconds: float = 30) -> Observation:
    place = MachinePath(f"C:\\app\\{name}.exe"), HostPath(str(prefix / "drive_c" / "app" / f"{name}.exe"))
    return observe(HostPath(str(prefix)), place, wine, os.environ, seconds)


def hives(prefix: Path) -> dict[str, tuple[bytes, int]]:
    return {hive.name: (hive.read_bytes(), hive.stat().st_mtime_ns) for hive in sorted(prefix.glob("*.reg"))}


def running_in(prefix: Path) -> list[str]:
    environments = []
    for path in Path("/proc").glob("[0-9]*/environ"):
        try:
            environments.append(path.read_bytes())
        except OSError:  # it has ended meanwhile
            continue
    return [text.decode(errors="replace") for text in environments if f"WINEPREFIX={prefix}".encode() in text]


def test_what_a_program_loads_and_asks_for_in_vain_is_seen_and_the_prefix_stays_as_it_was(
    prefix: Path, wine: Wine
) -> None:
    before = hives(prefix)
    seen = observed(prefix, "loads", wine)
    assert (seen.status, seen.failed, seen.is_as_before) == (7, (("gone.dll", 0xC0000135),), True)
    assert "C:\\app\\late.dll" in seen.loaded
    assert seen.output.strip() == "own words"
    assert hives(prefix) == before
    assert running_in(prefix) == []


def test_a_program_that_does_not_end_is_stopped_and_nothing_of_it_goes_on(prefix: Path, wine: Wine) -> None:
    start, before = time.monotonic(), hives(prefix)
    seen = observed(prefix, "sleeps", wine, seconds=2)
    assert seen.status is None
    assert time.monotonic() - start < 25
    assert running_in(prefix) == []
    assert hives(prefix) == before


def test_what_a_program_writes_to_the_registry_stays_and_is_said(prefix: Path, wine: Wine) -> None:
    assert not observed(prefix, "writes", wine).is_as_before
    assert re.search(rb"\[Software\\\\Tidebook\]", (prefix / "user.reg").read_bytes())


def test_a_prefix_of_another_version_or_in_use_is_not_touched(prefix: Path, wine: Wine) -> None:
    stamp = prefix / ".update-timestamp"
    kept, before = stamp.read_bytes(), hives(prefix)
    stamp.write_text("1")
    with pytest.raises(UsageError, match="this version of wine has not set it up"):
        observed(prefix, "loads", wine)
    stamp.write_bytes(kept)
    assert hives(prefix) == before
    environment = {**os.environ, "WINEPREFIX": str(prefix), "WINEDEBUG": "-all"}
    with subprocess.Popen(
        [wine.program, "C:\\app\\sleeps.exe"], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as running:
        time.sleep(2)
        with pytest.raises(UsageError, match="a program runs in it already"):
            observed(prefix, "loads", wine)
        running.kill()
    subprocess.run([wine.server, "-k"], env=environment, check=False)
    subprocess.run([wine.server, "-w"], env=environment, check=False)


def test_a_library_that_refuses_to_initialise_is_at_fault(prefix: Path, fundamen: Fundamen) -> None:
    folder = prefix / "drive_c" / "refuses"
    folder.mkdir()
    (folder / "one.c").write_text(
        "#include <windows.h>\nBOOL WINAPI DllMain(HINSTANCE module, DWORD reason, LPVOID unused) { return FALSE; }\n"
        "__declspec(dllexport) int one(void) { return 1; }\n"
    )
    (folder / "app.c").write_text("int one(void); int main(void) { return one(); }")
    for words in (["-shared", "-o", "one.dll", "one.c"], ["-o", "app.exe", "app.c", "one.dll"]):
        subprocess.run(["x86_64-w64-mingw32-gcc", *words], cwd=folder, check=True)
    answer = fundamen("trace", "--observe", "--json", "--machine", prefix, "C:\\refuses\\app.exe")
    faults = [component for component in json.loads(answer.out)["components"] if component["fault"]]
    assert [(fault["name"], fault["verdict"], fault["symptom"]["text"]) for fault in faults] == [
        ("one.dll", "blocked", "0xC0000142 STATUS_DLL_INIT_FAILED")
    ]


def test_a_trace_adds_what_was_seen_and_says_beforehand_that_it_runs_the_program(
    prefix: Path, fundamen: Fundamen
) -> None:
    answer = fundamen("trace", "--observe", "--machine", prefix, "C:\\app\\loads.exe")
    assert answer.status == 0
    assert answer.err.startswith("Running loads.exe under wine-")
    assert "loaded too  late.dll: C:\\app\\late.dll" in answer.out
    assert "in vain     gone.dll: asked for, 0xC0000135 STATUS_DLL_NOT_FOUND" in answer.out
