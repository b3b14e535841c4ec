"""The built command: a sheet from its draft to all met; forerunners, consent, licences, watching, bad sheets."""

import errno
import json
import os
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from builders.machine import ALinuxMachine
from conftest import Fundamen

SHEET = """\
schema = "fundamen.sheet/1"
name = "Tidebook server"
program = "/opt/tidebook/bin/tidebook"

[[requirement]]
id = "berths"
kind = "setting"
file = "/etc/tidebook.ini"
key = ["store", "berths"]
at_least = 40
because = "the harbour has that many"
after = ["program"]
who = "harbour IT"

[[requirement]]
id = "modules"
kind = "setting"
file = "/etc/tidebook.ini"
key = ["store", "modules"]
has = ["gauge"]

[[requirement]]
id = "shown"
kind = "file"
path = "/srv/tide/page"
after = ["berths"]

[[requirement]]
id = "service"
kind = "service"
name = "tide.service"
enabled = true

[[requirement]]
id = "program"
kind = "program"
path = "/opt/tidebook/bin/tidebook"

[[requirement]]
id = "elsewhere"
kind = "registry value"
key = 'HKLM\\Software\\Tide'
only_if = { platform = "windows" }
"""
INI = b"# berths of the harbour\n[store]\nberths = 12 ; too few\nmodules = berth\n"


@pytest.fixture
def served(linux: ALinuxMachine, tmp_path: Path) -> ALinuxMachine:
    (tmp_path / "tide.toml").write_text(SHEET)
    linux.program("/opt/tidebook/bin/tidebook").file("/etc/tidebook.ini", INI).file("/srv/tide/page", b"")
    return linux.file("/usr/lib/systemd/system/tide.service", b"[Install]\nWantedBy=multi-user.target\n")


def standings(record: dict[str, list[dict[str, str]]]) -> dict[str, str]:
    return {each["id"]: each["standing"] for each in record["requirements"]}


def test_what_is_unmet_is_put_right_by_a_plan_and_what_waited_for_it_is_checked_then(
    fundamen: Fundamen, served: ALinuxMachine
) -> None:
    machine = ("--machine", str(served.root))
    first = fundamen("prereqs", *machine, "tide.toml", "--json", "--save-plan", "plan.json")
    [record] = first.records
    assert standings(record) == {
        "program": "met",
        "berths": "unmet",
        "modules": "unmet",
        "shown": "unknown",
        "service": "unmet",
    }
    assert [each["id"] for each in record["requirements"]].index("program") == 0
    assert (first.status, record["faults"], record["unknown"]) == (1, 3, 1)
    assert record["requirements"][3]["held_up_by"] == ["berths"]
    assert [each["id"] for each in record["left_out"]] == ["elsewhere"]
    assert record["next"][0]["text"] == f"fundamen plans run --machine {served.root} plan.json"
    assert fundamen("plans", "run", *machine, "plan.json", "--yes").status == 0
    after = fundamen("prereqs", *machine, "tide.toml")
    assert (after.status, after.out.splitlines()[0]) == (0, "Tidebook server: all 5 requirements are met.")
    changed = (served.root / "etc/tidebook.ini").read_bytes()
    assert changed == INI.replace(b"12", b"40").replace(b"modules = berth", b"modules = berth,gauge")
    assert fundamen("undo", *machine).status == 0
    assert (served.root / "etc/tidebook.ini").read_bytes() == INI


def test_the_page_answers_first_in_100_columns(fundamen: Fundamen, served: ALinuxMachine) -> None:
    page = fundamen("prereqs", "--machine", str(served.root), "tide.toml", "-v").out
    assert page.startswith("Tidebook server: 3 of 5 requirements are not met, and 1 is still unknown.\n")
    assert "harbour IT" in page
    assert "shown  waits for berths" in page
    assert max(len(line) for line in page.splitlines() if "  fundamen " not in line) <= 100


def test_a_draft_is_a_sheet_that_its_own_machine_meets(fundamen: Fundamen, tmp_path: Path) -> None:
    drafted = fundamen("prereqs", "--start", sys.executable, "--write", "python.toml")
    assert drafted.status == 0
    draft = tomllib.loads((tmp_path / "python.toml").read_text())
    assert draft["requirement"][-1]["kind"] == "program"
    assert fundamen("prereqs", "python.toml").status == 0
    assert fundamen("prereqs", "--start", sys.executable, "--write", "python.toml").status == 2


def test_each_ready_sheet_is_one_and_can_be_begun_with(fundamen: Fundamen) -> None:
    listed = [line.partition("  ")[0] for line in fundamen("prereqs", "--ready", "list").out.splitlines()]
    assert len(listed) >= 6
    for name in listed:
        assert fundamen("prereqs", "--ready", name, "--write", f"{name}.toml").status == 0
    [*records] = fundamen("prereqs", "--json", *[f"{name}.toml" for name in listed]).records
    assert [record["error"] for record in records] == [None] * len(listed)
    assert all(record["faults"] or record["unknown"] for record in records)
    assert fundamen("prereqs", "--ready", "moon").status == 2


def test_commands_are_shown_and_run_only_with_consent(fundamen: Fundamen, tmp_path: Path) -> None:
    runs = json.dumps(["touch", str(tmp_path / "touched")])
    text = f'schema = "fundamen.sheet/1"\nname = "x"\n[[requirement]]\nid = "a"\nkind = "command"\nruns = {runs}\n'
    (tmp_path / "sheet.toml").write_text(text)
    for words, given in (((), b"y\n"), (("--run-commands",), b"n\n"), (("--run-commands",), b"")):
        ran = fundamen("prereqs", "sheet.toml", *words, given=given)
        assert (ran.status, (tmp_path / "touched").exists()) == (1, False)
    assert "touch" in ran.err
    assert fundamen("prereqs", "sheet.toml", "--run-commands", given=b"y\n").status == 0
    assert (tmp_path / "touched").exists()


def test_a_licence_is_shown_accepted_on_purpose_and_only_in_that_wording(fundamen: Fundamen, tmp_path: Path) -> None:
    licence = tmp_path / "LICENCE"
    licence.write_text("You may read the tides.\n\x1b[2J")
    top = 'schema = "fundamen.sheet/1"\nname = "x"\nprogram = "/usr/bin/env"\n'
    head = f'{top}[[requirement]]\nid = "a"\nkind = "licence"\n'
    (tmp_path / "sheet.toml").write_text(f"{head}text = {json.dumps(str(licence))}\n")
    accept = ("prereqs", "--accept", str(licence), "sheet.toml")
    refused = fundamen(*accept, "--yes")
    assert (refused.status, "You may read the tides." in refused.err, "\x1b" in refused.err) == (1, True, False)
    assert fundamen("prereqs", "sheet.toml").status == 1
    assert fundamen(*accept, given=b"y\n").status == 0
    assert fundamen("prereqs", "sheet.toml").status == 0
    licence.write_text("You may read the tides, for a fee.\n")
    changed = fundamen("prereqs", "sheet.toml")
    assert (changed.status, "--save-plan" in changed.out) == (1, False)  # there is no step for a licence
    assert fundamen("prereqs", "--accept", "/etc/passwd", "sheet.toml", given=b"y\n").status == 2


def test_watching_tells_what_changes_and_ends_when_all_is_met(
    served: ALinuxMachine, tmp_path: Path, home: Path
) -> None:
    (tmp_path / "tide.toml").write_text(SHEET[: SHEET.index('[[requirement]]\nid = "modules')])
    text = (tmp_path / "tide.toml").read_text().replace('after = ["program"]\n', "")
    (tmp_path / "tide.toml").write_text(text)
    command = [str(Path(sys.executable).parent / "fundamen"), "prereqs", "--machine", str(served.root), "tide.toml"]
    with subprocess.Popen(
        [*command, "--watch", "--every", "0.1"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "FUNDAMEN_HOME": str(home)},
    ) as process:
        assert process.stdout is not None
        assert process.stdout.readline() == "Tidebook server: 1 of 1 requirement is not met.\n"
        (served.root / "etc/tidebook.ini").write_bytes(INI.replace(b"12", b"50"))
        rest = process.communicate(timeout=60)[0]
    assert (process.returncode, "All requirements are met." in rest) == (0, True)


def test_a_sheet_that_is_refused_is_reported_and_the_others_are_checked(
    fundamen: Fundamen, served: ALinuxMachine, tmp_path: Path
) -> None:
    (tmp_path / "bad.toml").write_text(SHEET.replace('"service"\nname', '"moon phase"\nname'))
    ran = fundamen("prereqs", "--machine", str(served.root), "bad.toml", "none.toml", "tide.toml", "--json")
    refused, unreadable, checked = ran.records
    assert ran.status == 3
    assert refused["error"]["what"]["code"] == "prerequisites.the-sheet-is-refused-at-line"
    assert unreadable["error"]["why"] == {"code": "quoted", "text": os.strerror(errno.ENOENT)}
    assert checked["faults"] == 3
    assert "Traceback" not in ran.err
