"""Many machines by their captures: shared faults, who stands out, the table in other forms."""

import csv
import io
from pathlib import Path

from builders.fleet import a_fleet
from builders.machine import ALinuxMachine
from conftest import Fundamen
from wording import says


def test_shared_faults_come_first_and_who_stands_out_is_named(fundamen: Fundamen, tmp_path: Path) -> None:
    folder = a_fleet(tmp_path / "captures", 40)
    (folder / "zz-note.txt").write_text("no capture")
    ran = fundamen("fleet", folder, "--json")
    [found] = ran.records
    assert (ran.status, len(found["machines"])) == (1, 40)
    assert [(f["name"], f["verdict"], len(f["machines"]), f["programs"]) for f in found["faults"]] == [
        ("libtide.so.2", "missing", 4, 12), ("/usr/lib/libebb.so", "corrupt", 1, 1),
    ]  # fmt: skip
    assert [(o["machine"], o["component"], o["version"], o["usual"]) for o in found["outliers"]] == [
        ("desk-001", "lib7:amd64", "0.9", "1.0"), ("desk-002", "lib8:amd64", None, "1.0"),
    ]  # fmt: skip
    assert [Path(each["path"]).name for each in found["refused"]] == ["zz-note.txt"]
    text = " ".join(fundamen("fleet", folder).out.split())
    assert text.startswith("40 machines, 5 of them with a fault; 4 share libtide.so.2, missing.")


def test_a_capture_on_which_fundamen_itself_fails_takes_no_other_along(fundamen: Fundamen, tmp_path: Path) -> None:
    folder = a_fleet(tmp_path / "captures", 5, packages=3)
    culprit = sorted(path.name for path in folder.iterdir())[2]
    ran = fundamen("fleet", folder, "--json", A_BUG_IN=f"fundamen.survey.fleet:read_summary:{culprit}")
    [found] = ran.records
    assert (ran.status, len(found["machines"]), len(found["refused"])) == (70, 4, 1)


def test_the_table_is_written_as_csv_and_the_figure_as_a_page(fundamen: Fundamen, tmp_path: Path) -> None:
    folder = a_fleet(tmp_path / "captures", 12, packages=3)
    words = ("--write", "f.csv", "--write", "f.html", "--write", "f.svg")
    assert fundamen("fleet", folder, *words).status == 1
    rows = list(csv.DictReader(io.StringIO((tmp_path / "f.csv").read_text())))
    assert {(row["machine"], row["version"]) for row in rows if row["component"] == "lib1:amd64"} == {
        (f"desk-{number:03}", "1.0") for number in range(12)
    }
    assert (tmp_path / "f.html").read_text().count("<rect") >= 3
    assert "libtide.so.2" in (tmp_path / "f.svg").read_text()
    again = fundamen("fleet", folder, "--write", "f.csv")
    assert (again.status, says(again.err, "cli.a-file-of-this-name-is")) == (2, True)
    assert fundamen("fleet", folder, "--write", "f.docx").status == 2
    assert fundamen("fleet", tmp_path / "gone").status == 3
    (tmp_path / "empty").mkdir()
    assert fundamen("fleet", tmp_path / "empty").status == 3
    (tmp_path / "empty/note").write_text("no capture")
    nothing = fundamen("fleet", tmp_path / "empty")
    assert (nothing.status, says(nothing.err, "survey.it-is-no-capture"), nothing.out) == (3, True, "")


def test_captures_that_are_made_are_counted_and_those_of_single_programs_are_not(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path
) -> None:
    linux.program("/bin/sh").program("/opt/tide", needs=["libgone.so.1"])
    (tmp_path / "captures").mkdir()
    for name in ("one", "two"):
        words = ("-m", linux.root, f"captures/{name}", "--all", "--name", name, "--yes")
        assert fundamen("capture", *words).status == 0
    assert fundamen("capture", "-m", linux.root, "captures/single", "/opt/tide", "--yes").status == 0
    [found] = fundamen("fleet", "captures", "--json").records
    assert found["machines"] == ["one", "two"]
    assert [(fault["name"], fault["machines"]) for fault in found["faults"]] == [("libgone.so.1", ["one", "two"])]
    assert found["refused"][0]["why"]["code"] == "formats.it-is-of-no-whole-machine"
