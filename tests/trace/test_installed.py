"""An installed package is traced by its list of files, as a program by its file."""

from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import ASource
from conftest import Fundamen
from wording import says

LIST = "/var/lib/dpkg/info/tide.list"
FILES = {f"/usr/share/tide/{name}": name.encode() for name in ("chart", "gauge", "berth", "lamp", "mast")}


@pytest.fixture
def linux(linux: ALinuxMachine) -> ALinuxMachine:
    documentation = {"/usr/share/doc/tide/copyright": b"free"}
    return linux.packages({"tide": {**FILES, **documentation}}, {"/etc/tide.conf": b"level = 1\n"})


def test_its_files_that_are_gone_changed_or_barred_are_at_fault_and_settings_and_documentation_are_not(
    fundamen: Fundamen, linux: ALinuxMachine
) -> None:
    listed = linux.root / LIST[1:]
    listed.write_text(listed.read_text() + "/usr/share/tide/led\n/usr/share/tide/lost\n")  # links have no digests
    linux.link("/usr/share/tide/led", "nowhere").file("/etc/tide.conf", b"level = 9\n")
    [sound, *_] = fundamen("trace", "-m", linux.root, "--json", LIST).records
    assert [part["name"] for part in sound["components"] if part["fault"]] == ["/usr/share/tide/lost"]
    (linux.root / "usr/share/doc/tide/copyright").unlink()
    (linux.root / "usr/share/tide/chart").unlink()
    linux.file("/usr/share/tide/gauge", b"other")
    (linux.root / "usr/share/tide/berth").unlink()
    (linux.root / "usr/share/tide/berth").mkdir()
    ran = fundamen("trace", "-m", linux.root, LIST)
    assert ran.out.startswith(
        "4 files of the installed package tide 1 are at fault: 2 missing, 1 with other content, 1"
    )
    [record] = fundamen("trace", "-m", linux.root, "--json", LIST).records
    assert {part["name"].rpartition("/")[2]: part["verdict"] for part in record["components"] if part["fault"]} == {
        "chart": "missing",
        "gauge": "corrupt",
        "berth": "blocked",
        "lost": "missing",
    }


def test_a_list_of_nothing_that_is_installed_is_refused(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    ran = fundamen("trace", "-m", linux.root, "/var/lib/dpkg/info/gone.list", LIST)
    assert (ran.status, says(ran.err, "trace.no-package-that-is-wholly-installed")) == (3, True), ran.err
    assert "The installed package tide 1 has all its files as it brought them." in ran.out


def test_a_remedy_for_a_program_is_not_held_up_by_a_package_without_one(
    fundamen: Fundamen, linux: ALinuxMachine, home: Path, tmp_path: Path
) -> None:
    linux.program("/opt/tide/tide", needs=["libtide.so.2"], runpath="/opt/tide/lib")
    (linux.root / "usr/share/tide/chart").unlink()
    published = {"libtide.so.2": an_elf(soname="libtide.so.2"), "chart": b"not the package's own"}
    ASource(tmp_path, home).published(published, place="{root}/opt/tide/lib").trusted()
    plan = ("restore", "-m", linux.root, "--no-archive", "/opt/tide/tide", LIST, "--json")
    [record] = fundamen(*plan, "--rehearse").records
    assert [each["name"] for each in record["unmet"]] == ["/usr/share/tide/chart"]  # one of that name elsewhere is none
    assert (record["state"], record["faults_before"], record["faults_rehearsed"]) == ("rehearsed", 2, 1)
    done = fundamen(*plan, "--yes")
    assert (done.status, done.records[0]["faults"]) == (1, 1)
    assert fundamen("undo", "-m", linux.root).status == 0
    assert not (linux.root / "opt/tide/lib").exists()


def test_hundreds_of_files_at_fault_are_reported_in_a_few_lines(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    linux.packages({"tide": {f"/usr/share/tide/{number:03}": b"%d" % number for number in range(300)}})
    for number in range(300):
        path = linux.root / f"usr/share/tide/{number:03}"
        path.unlink() if number % 2 else path.write_bytes(b"other")
    traced = fundamen("trace", "-m", linux.root, LIST).out
    assert "150 with other content, 150 missing" in " ".join(traced.split())
    assert traced.count("and so are") == 2
    planned = fundamen("restore", "-m", linux.root, "--no-archive", "--rehearse", LIST).out
    assert "and 292 more" in planned
    assert max(len(traced.splitlines()), len(planned.splitlines())) < 40
