"""Values of registries, PATH in one, services of Windows and of systemd, limits of the kernel: changed, undone."""

import json
import os
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.hive import Key, a_hive
from builders.machine import AWindowsMachine
from command import Ran
from conftest import Fundamen
from fundamen.formats.windows import text_hive
from fundamen.formats.windows.registry_value import HiveValue, ValueType, read_written, value_of
from fundamen.formats.windows.text_hive import TextHive
from fundamen.machine.opening import open_machine
from wording import says

ENVIRONMENT = "HKLM\\System\\CurrentControlSet\\Control\\Session Manager\\Environment"
SERVICE = "HKLM\\System\\CurrentControlSet\\Services\\Tide"
PATH = "C:\\windows;C:\\Tide\\;C:\\gone;%X%\\bin;c:\\tide"
NEW_PATH = "C:\\Tide;C:\\windows;%X%\\bin"
SYSTEM_REG = r"""WINE REGISTRY Version 2
;; All keys relative to \\Machine

#arch=win64

[Software\\Tide] 1700000000
#time=1da1b2c3d4e5f60
@="unnamed"
"Blob"=hex:01,02,03,\
  04,05
"Station"="Marram \"Sound\" \x00fc"
"Tables"=str(7):"a\0b\0"

[System\\CurrentControlSet\\Control\\Session Manager\\Environment] 1700000000
"PATH"=str(2):"C:\\windows;C:\\Tide\\;C:\\gone;%X%\\bin;c:\\tide"

[System\\CurrentControlSet\\Services\\Tide] 1700000000
"Start"=dword:00000004
"Type"=dword:00000010
"""


class Place:
    """A machine with a registry, a prefix or a mounted volume, and the command on it."""

    def __init__(self, root: Path, fundamen: Fundamen) -> None:
        self.root, self._fundamen = root, fundamen

    def run(self, *words: str) -> Ran:
        return self._fundamen(*words, "-m", str(self.root))

    def plan(self, *steps: dict[str, Any]) -> Ran:
        plan = {"schema": "fundamen.plan/1", "program": "C:\\x.exe", "machine": "it", "made_at": "2026-01-01T00:00:00Z"}
        path = self.root.parent / "it.plan"
        path.write_text(json.dumps({**plan, "steps": steps}))
        return self.run("plans", "run", "--yes", str(path))

    def value(self, key: str, name: str) -> object:
        return open_machine(str(self.root), environment={}).registry.value(key, name)


@pytest.fixture(params=["a prefix", "a mounted volume"])
def place(request: pytest.FixtureRequest, tmp_path: Path, windows: AWindowsMachine, fundamen: Fundamen) -> Place:
    if request.param == "a mounted volume":
        current: Key = {
            "Control": {"Session Manager": {"Environment": {"PATH": PATH}}},
            "Services": {"Tide": {"Start": 4, "Type": 16}},
        }
        config = windows.root / "Windows/System32/config"
        config.mkdir()
        (config / "SYSTEM").write_bytes(a_hive({"ControlSet002": current, "Select": {"Current": 2}}))
        (config / "SOFTWARE").write_bytes(a_hive({"Tide": {"Station": 'Marram "Sound" ü', "Tables": ("a", "b")}}))
        (windows.root / "Tide").mkdir()
        return Place(windows.root, fundamen)
    prefix = tmp_path / "prefix"
    for folder in ("drive_c/windows/system32", "drive_c/Tide", "dosdevices"):
        (prefix / folder).mkdir(parents=True)
    (prefix / "dosdevices/c:").symlink_to("../drive_c")
    (prefix / "system.reg").write_text(SYSTEM_REG)
    (prefix / "user.reg").write_text("WINE REGISTRY Version 2\n")
    return Place(prefix, fundamen)


def hives(root: Path) -> dict[str, bytes]:
    return {p.name: p.read_bytes() for p in root.rglob("*") if p.is_file() and p.suffix != ".plan"}


def test_values_a_list_and_a_service_are_changed_in_one_step_a_hive_and_an_undo_gives_back_every_byte(
    place: Place,
) -> None:
    before = hives(place.root)
    ran = place.plan(
        {"do": "set registry value", "path": "HKLM\\Software\\Tide", "name": "Station", "value": "Reed"},
        {"do": "set registry value", "path": "HKLM\\Software\\Tide\\New", "name": "Depth", "value": 12},
        {"do": "set registry value", "path": "HKLM\\Software\\Tide", "name": "Tables", "value": ["c", "d"]},
        {"do": "set registry entry", "path": ENVIRONMENT, "name": "Path", "entry": "C:\\Tide", "without_dead": True},
        {"do": "enable service", "path": "HKLM\\System", "name": "Tide"},
    )
    assert ran.status == 0, ran.out + ran.err
    assert "C:\\gone" in ran.out
    assert place.value("HKLM\\Software\\Tide", "station") == "Reed"
    assert place.value("HKLM\\Software\\Tide\\New", "Depth") == 12
    assert place.value("HKLM\\Software\\Tide", "Tables") == ("c", "d")
    assert place.value(ENVIRONMENT, "PATH") == NEW_PATH
    assert place.value(SERVICE, "Start") == 2
    assert place.run("undo").status == 0
    assert hives(place.root) == before


def test_where_the_system_has_written_since_an_undo_puts_back_just_the_values(place: Place) -> None:
    step = {"do": "set registry value", "path": "HKLM\\Software\\Tide", "name": "Station", "value": "Reed"}
    other = {"do": "set registry value", "path": "HKLM\\Software\\Tide", "name": "Since", "value": "later"}
    assert place.plan(step).status == 0
    [hive] = [p for p in place.root.rglob("*") if p.name in {"system.reg", "SOFTWARE"}]
    changed_by_us = hive.read_bytes()
    assert place.plan(other).status == 0
    since = hive.read_bytes()
    assert place.run("undo").status == 0
    assert hive.read_bytes() == changed_by_us
    hive.write_bytes(since)  # as if the system had written it, not we
    assert place.run("undo").status == 0
    assert place.value("HKLM\\Software\\Tide", "Station") == 'Marram "Sound" ü'
    assert place.value("HKLM\\Software\\Tide", "Since") == "later"


@pytest.mark.parametrize(
    ("step", "answer"),
    [
        ({"name": "Station", "value": "Reed", "expects": "Channel"}, "and 'Channel' was expected"),
        ({"name": "Station", "value": 7, "type": "texts"}, "cannot hold it"),
        ({"path": "HKLM\\Elsewhere", "name": "X", "value": "Y"}, "cannot be changed"),
        ({"path": "HKLM\\Software\\\\Tide", "name": "X", "value": "Y"}, "a part of it is empty"),
        ({"path": "HKU\\..\\x", "name": "X", "value": "Y"}, "leads elsewhere"),
        ({"do": "enable service", "path": "HKLM\\x", "name": "Nobody"}, "no service of this name"),
    ],
)
def test_what_does_not_fit_is_refused_and_nothing_is_changed(place: Place, step: dict[str, Any], answer: str) -> None:
    before = hives(place.root)
    ran = place.plan({"do": "set registry value", "path": "HKLM\\Software\\Tide", **step})
    if step.get("path") == "HKLM\\Elsewhere" and (place.root / "system.reg").exists():
        assert ran.status == 0  # a prefix has one hive for all of HKLM
        return
    assert (ran.status in {2, 5}, answer in ran.err) == (True, True), ran.err
    assert hives(place.root) == before


VALUES = st.one_of(
    st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0")),
    st.integers(0, 2**32 - 1),
    st.lists(st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), min_size=1), max_size=4),
)


@given(VALUES, st.sampled_from(["Station", "Blob", "tables", "", 'New ü"\\']))
def test_a_value_of_a_text_hive_is_written_as_it_is_read_and_everything_else_stays(
    content: str | int | list[str], name: str
) -> None:
    value = value_of(tuple(content) if isinstance(content, list) else content)
    assert read_written(value.as_text()) == value
    before = SYSTEM_REG.encode()
    after = text_hive.with_value(before, "software\\tide", name, value, 0)
    assert text_hive.find_value(after, "Software\\Tide", name) == value
    one, other = TextHive(before), TextHive(after)
    values = {n: v for n, v in (other.values("Software\\Tide") or {}).items() if n.lower() != name.lower()}
    assert values == {n: v for n, v in (one.values("Software\\Tide") or {}).items() if n.lower() != name.lower()}
    old = text_hive.find_value(before, "Software\\Tide", name)
    back = text_hive.with_value(after, "Software\\Tide", name, old, 0)
    assert back == before or name in {"Blob", "tables"}  # the one was broken in two lines, the other has a short escape


@given(st.binary(max_size=40), st.integers(0, 20))
def test_any_value_has_a_text_form(data: bytes, kind: int) -> None:
    value = HiveValue(kind, data)
    again = read_written(value.as_text())
    assert again.type == kind or kind in {ValueType.TEXT, ValueType.NUMBER}
    assert again.content == value.content


STAND_IN = '#!/bin/sh\nexec "{python}" -m fundamen.demo.service_stand_in {state} "$@"\n'


@pytest.mark.xdist_group("this host")
class TestServicesOfThisHost:
    @pytest.fixture
    def state(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
        """Services of a stand-in for systemd's tool."""
        state, folder = tmp_path / "services.json", tmp_path / "bin"
        state.write_text(json.dumps({"tide.service": "inactive", "berth.service": "active", "gull.service": "broken"}))
        folder.mkdir()
        (folder / "systemctl").write_text(STAND_IN.format(python=sys.executable, state=state))
        (folder / "systemctl").chmod(0o755)
        monkeypatch.setenv("PATH", f"{folder}:{os.environ['PATH']}")
        return state

    def started(self, folder: Path, fundamen: Fundamen, *names: str) -> Ran:
        steps: list[dict[str, Any]] = [{"do": "start service", "path": "/etc", "name": name} for name in names]
        steps.insert(0, {"do": "set value", "path": str(folder / "tide.ini"), "key": ["tide", "up"], "value": "yes"})
        plan = {"schema": "fundamen.plan/1", "program": "/x", "machine": "it", "made_at": "2026-01-01T00:00:00Z"}
        (folder / "it.plan").write_text(json.dumps({**plan, "steps": steps}))
        return fundamen("plans", "run", "--yes", str(folder / "it.plan"))

    def test_a_service_is_started_and_an_undo_stops_it(self, tmp_path: Path, state: Path, fundamen: Fundamen) -> None:
        (tmp_path / "tide.ini").write_text("[tide]\nup = no\n")
        ran = self.started(tmp_path, fundamen, "tide.service", "berth.service")
        assert ran.status == 0, ran.out + ran.err
        assert json.loads(state.read_text())["tide.service"] == "active"
        assert "berth" not in ran.out
        assert fundamen("undo").status == 0
        assert json.loads(state.read_text()) == {
            "tide.service": "inactive",
            "berth.service": "active",
            "gull.service": "broken",
        }
        assert (tmp_path / "tide.ini").read_text() == "[tide]\nup = no\n"

    def test_where_it_does_not_start_everything_is_undone(
        self, tmp_path: Path, state: Path, fundamen: Fundamen
    ) -> None:
        (tmp_path / "tide.ini").write_text("[tide]\nup = no\n")
        ran = self.started(tmp_path, fundamen, "tide.service", "gull.service")
        assert (ran.status, "control process exited" in ran.err) == (5, True), ran.err
        assert (tmp_path / "tide.ini").read_text() == "[tide]\nup = no\n"
        assert json.loads(state.read_text())["tide.service"] == "inactive"

    def test_an_unknown_one_and_one_of_a_machine_that_is_not_up_are_refused(
        self, tmp_path: Path, state: Path, fundamen: Fundamen
    ) -> None:
        (tmp_path / "tide.ini").write_text("[tide]\nup = no\n")
        ran = self.started(tmp_path, fundamen, "nobody.service")
        assert (ran.status, says(ran.err, "changes.the-machine-has-no-unit-of"), state.exists()) == (2, True, True), (
            ran.err
        )


@pytest.mark.system
@pytest.mark.xdist_group("this host")
@pytest.mark.skipif(not os.access("/proc/sys/kernel/sem", os.W_OK), reason="the kernel's limits cannot be set here")
def test_one_field_of_a_kernel_limit_is_set_and_given_back(tmp_path: Path, fundamen: Fundamen) -> None:
    limit = Path("/proc/sys/kernel/sem")
    before = limit.read_text().split()
    wanted = [*before[:3], str(int(before[3]) + 1)]

    def planned(**fields: Any) -> Ran:
        step = {"do": "set kernel limit", "path": "/proc/sys/kernel/sem", "name": "kernel.sem", **fields}
        plan = {"schema": "fundamen.plan/1", "program": "/x", "machine": "it", "made_at": "2026-01-01T00:00:00Z"}
        (tmp_path / "it.plan").write_text(json.dumps({**plan, "steps": [step]}))
        return fundamen("plans", "run", "--yes", str(tmp_path / "it.plan"))

    try:
        ran = planned(value=wanted[3], field=3)
        assert (ran.status, says(ran.out, "changes.from-to-until-the-next-start")) == (0, True), ran.out + ran.err
        assert limit.read_text().split() == wanted
        assert planned(value=wanted[3], field=3).out.startswith("There is nothing to do")
        assert planned(value="1", field=3, expects="7").status == 5
        assert planned(value="1", field=9).status == 2
        assert planned(value="1", name="kernel.nobody").status == 2
        assert planned(value="1", name="kernel/../../etc/x").status == 2
        assert fundamen("undo").status == 0
        assert limit.read_text().split() == before
    finally:
        limit.write_text(" ".join(before))
