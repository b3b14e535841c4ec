"""A real systemd is the truth about services: there, enabled, masked, running, started and stopped again."""

import json
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from builders.supervisor import ASupervisor, supervised

pytestmark = pytest.mark.system

_UNIT = "[Unit]\nDefaultDependencies=no\n[Service]\nExecStart=/bin/sleep {}\n[Install]\nWantedBy=first.target\n"
UNITS = {
    "tide.service": _UNIT.format(1000),
    "ebb.service": _UNIT.format(1000),
    "lame.service": _UNIT.format("no-number"),
}
FUNDAMEN = shutil.which("fundamen", path=str(Path(sys.executable).parent)) or ""


@pytest.fixture
def supervisor(tmp_path: Path) -> Iterator[ASupervisor]:
    with supervised(tmp_path / "units", UNITS) as running:
        yield running


def fundamen(supervisor: ASupervisor, home: Path, *words: str) -> tuple[int, list[dict[str, Any]]]:
    ran = supervisor.run(FUNDAMEN, *words, "--json", FUNDAMEN_HOME=str(home))
    assert ran.stderr == "" or ran.returncode, ran.stderr
    return ran.returncode, [json.loads(line) for line in ran.stdout.splitlines()]


def standings(supervisor: ASupervisor, folder: Path, **facts: object) -> dict[str, str]:
    """Of each unit, by one sheet."""
    lines = "".join(f"{key} = {json.dumps(value)}\n" for key, value in facts.items())
    requirements = "".join(
        f'[[requirement]]\nid = "{name.partition(".")[0]}"\nkind = "service"\nname = "{name}"\n{lines}'
        for name in (*UNITS, "gone.service")
    )
    sheet = folder / "sheet.toml"
    sheet.write_text(f'schema = "fundamen.sheet/1"\nname = "S"\nprogram = "/bin/sleep"\n{requirements}')
    _, [record] = fundamen(supervisor, folder / "home", "prereqs", str(sheet))
    return {each["id"]: each["standing"] for each in record["requirements"]}


def test_a_service_is_there_enabled_masked_and_running_as_systemd_says(supervisor: ASupervisor, tmp_path: Path) -> None:
    for words in (("enable", "ebb"), ("start", "ebb"), ("start", "lame"), ("mask", "--runtime", "lame")):
        supervisor.run("systemctl", *words)
    supervisor.run("sh", "-c", "ln -sf /dev/null /etc/systemd/system/lame.service")
    said = {name.partition(".")[0]: supervisor.state(name) for name in (*UNITS, "gone.service")}
    assert (said["ebb"], said["tide"], said["lame"] in {"failed", "inactive"}) == ("active", "inactive", True)
    running = standings(supervisor, tmp_path, running=True)
    assert {name for name, standing in running.items() if standing == "met"} == {"ebb"}
    assert running == {"ebb": "met", "tide": "unmet", "lame": "unmet", "gone": "unmet"}
    assert standings(supervisor, tmp_path, enabled=True) == {
        "ebb": "met", "tide": "unmet", "lame": "unmet", "gone": "unmet",
    }  # fmt: skip
    assert standings(supervisor, tmp_path) == {"ebb": "met", "tide": "met", "lame": "unmet", "gone": "unmet"}


def test_a_plan_enables_and_starts_a_service_and_undo_stops_it_and_takes_its_link_away(
    supervisor: ASupervisor, tmp_path: Path
) -> None:
    sheet, plan, home = tmp_path / "tide.toml", tmp_path / "plan.json", tmp_path / "home"
    top = 'schema = "fundamen.sheet/1"\nname = "Tide"\nprogram = "/bin/sleep"\n'
    tide = '[[requirement]]\nid = "tide"\nkind = "service"\nname = "tide.service"\nrunning = true\nenabled = true\n'
    sheet.write_text(top + tide)
    status, _ = fundamen(supervisor, home, "prereqs", str(sheet), "--save-plan", str(plan))
    assert status == 1
    status, [restored] = fundamen(supervisor, home, "plans", "run", "--yes", str(plan))
    assert (status, restored["state"]) == (0, "restored")
    assert supervisor.state("tide.service") == "active"
    assert supervisor.run("systemctl", "is-enabled", "tide.service").stdout.strip() == "enabled"
    assert fundamen(supervisor, home, "prereqs", str(sheet))[0] == 0
    status, _ = fundamen(supervisor, home, "undo")
    assert status == 0
    assert supervisor.state("tide.service") == "inactive"
    assert supervisor.run("systemctl", "is-enabled", "tide.service").stdout.strip() == "disabled"


def test_a_service_that_does_not_start_has_all_of_it_undone(supervisor: ASupervisor, tmp_path: Path) -> None:
    plan = {
        "schema": "fundamen.plan/1", "program": "/bin/sleep", "machine": "it", "made_at": "2026-11-28T00:00:00Z",
        "steps": [
            {"do": "enable service", "path": "/etc/systemd/system/lame.service", "name": "lame.service"},
            {"do": "start service", "path": "/etc/systemd/system/lame.service", "name": "lame.service"},
        ],
    }  # fmt: skip
    (tmp_path / "plan.json").write_text(json.dumps(plan))
    ran = supervisor.run(
        FUNDAMEN, "plans", "run", "--yes", str(tmp_path / "plan.json"), FUNDAMEN_HOME=str(tmp_path / "home")
    )
    assert ran.returncode == 5, ran.stdout + ran.stderr
    assert supervisor.run("systemctl", "is-enabled", "lame.service").stdout.strip() == "disabled"
