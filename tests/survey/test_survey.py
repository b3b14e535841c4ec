"""A survey tells all that is wrong with a machine in one call, and a second one reads again only what changed."""

import faulthandler
import mmap
import os
import random
import shutil
import signal
import time
from datetime import UTC, datetime, timedelta
from itertools import chain
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from defusedxml import ElementTree

from builders.elf import an_elf
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.signing import AnIssuer
from builders.source import ASource
from conftest import Fundamen
from fundamen.evidence.dpkg_files import Records
from fundamen.machine.sharing import Where, Workers
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.survey.contents import AlterationKind, PackageComparison
from fundamen.survey.remembered import Remembered
from fundamen.survey.walking import Walk
from wording import says

SVG = "{http://www.w3.org/2000/svg}"


class Surveyed:
    """A Linux root that is surveyed by the built command."""

    def __init__(self, fundamen: Fundamen, linux: ALinuxMachine) -> None:
        self.fundamen, self.linux = fundamen, linux

    def survey(self, *words: str) -> dict[str, Any]:
        """One that takes place when all was changed so long ago that a digest of it is remembered."""
        ran = self.fundamen("survey", "-m", self.linux.root, *words, "--json", SECONDS_AHEAD="10")
        [record] = ran.records
        assert ran.status == (1 if record["faults"] else 0), ran.err
        found: dict[str, Any] = record
        return found


@pytest.fixture
def surveyed(fundamen: Fundamen, linux: ALinuxMachine) -> Surveyed:
    linux.program("/bin/sh").library("/usr/lib64/libc.so.6")
    return Surveyed(fundamen, linux)


def test_what_stops_most_programs_comes_first_and_counts_once(surveyed: Surveyed, linux: ALinuxMachine) -> None:
    for name in ("gauge", "berth", "chart"):
        linux.program(f"/opt/{name}", needs=["libtide.so.2"])
    linux.program("/opt/ebb", needs=["libebb.so.1"]).library("/usr/lib64/libebb.so.1", "x86")
    linux.program("/opt/lamp", needs=["liblamp.so"]).file("/usr/lib64/liblamp.so.1", an_elf()[:80])
    linux.link("/usr/lib64/liblamp.so", "liblamp.so.1").file("/usr/lib64/libcut.so", an_elf()[:80])
    linux.file("/opt/run", b"#!/usr/bin/gone\n", 0o755).file("/opt/again", b"#!/usr/bin/gone\n", 0o755)
    found = surveyed.survey()
    assert [(cause["name"], cause["verdict"], len(cause["programs"])) for cause in found["causes"]] == [
        ("libtide.so.2", "missing", 3),
        ("/usr/bin/gone", "missing", 2),
        ("libebb.so.1", "wrong-architecture", 1),
        ("liblamp.so", "corrupt", 1),
        ("libcut.so", "corrupt", 0),
    ]
    assert (found["programs"], found["scripts"], found["folders"]) == (6, 2, ["/usr", "/bin", "/lib64", "/opt"])
    assert found["faults"] == 6  # with the library that lies in the folder for the other word size
    assert found["strays"] == [
        {"path": "/usr/lib64/libebb.so.1", "architecture": "x86", "folder_is_for": "x86_64"},
    ]
    text = surveyed.fundamen("survey", "-m", linux.root).out
    assert text.startswith("4 causes keep 7 programs from starting; 1 library is damaged, or lack")


def test_in_the_figure_a_cause_has_a_bar_as_long_as_what_it_stops(surveyed: Surveyed, linux: ALinuxMachine) -> None:
    for name in ("gauge", "berth", "chart"):
        linux.program(f"/opt/{name}", needs=["lib<b>.so"])
    linux.program("/opt/ebb", needs=["libebb.so.1"])
    folder = linux.root.parent
    words = ("--write", "found.svg", "--write", "found.html")
    assert surveyed.fundamen("survey", "-m", linux.root, *words).status == 1
    drawn = ElementTree.fromstring((folder / "found.svg").read_text())
    bars = [float(each.get("width", "")) for each in drawn.iter(f"{SVG}rect") if each.get("height") == "16"]
    assert bars == [pytest.approx(3 * bars[1], abs=0.2), bars[1]]
    assert [each.text for each in drawn.iter(f"{SVG}text")].count("lib<b>.so") == 1
    assert "<b>" not in (folder / "found.html").read_text()
    assert surveyed.fundamen("survey", "-m", linux.root, *words).status == 2  # they are there already


def test_a_plug_in_that_its_host_serves_lacks_nothing_and_one_that_no_one_could_serve_does(
    surveyed: Surveyed, linux: ALinuxMachine
) -> None:
    linux.library("/opt/host/libhost.so", soname="libhost.so").library("/opt/plug/one.so", needs=["libhost.so"])
    assert surveyed.survey()["causes"] == []
    linux.library("/opt/plug/two.so", needs=["libnobody.so.3"])
    [cause] = surveyed.survey()["causes"]
    assert (cause["name"], cause["programs"], cause["libraries"]) == ("libnobody.so.3", [], ["/opt/plug/two.so"])


def test_what_a_package_does_not_require_is_no_fault_and_what_was_lost_is(
    surveyed: Surveyed, linux: ALinuxMachine
) -> None:
    needs_foreign, needs_lost = an_elf(needs=("libfar.so.1",)), an_elf(needs=("libtide.so.2",))
    helpers = {"/usr/lib/tide/bridge.so": needs_foreign, "/usr/lib/tide/gauge.so": needs_lost}
    shim = {"/usr/lib/tide/shim.ps1": b"#!/usr/bin/pwsh\n"}
    linux.packages({"tide": helpers | shim, "tidelib": {"/usr/lib64/libtide.so.2": an_elf(soname="libtide.so.2")}})
    for path in ("usr/lib/tide/shim.ps1", "usr/lib/tide/bridge.so"):
        (linux.root / path).chmod(0o755)
    (linux.root / "usr/lib64/libtide.so.2").unlink()
    linux.program("/opt/own", needs=["libfar.so.1"])  # of no package
    found = surveyed.survey()
    assert [(each["name"], each["programs"], each["libraries"]) for each in found["causes"]] == [
        ("libfar.so.1", ["/opt/own"], []),
        ("libtide.so.2", [], ["/usr/lib/tide/gauge.so"]),
    ]
    assert [(each["name"], len(each["programs"]), each["libraries"]) for each in found["optional"]] == [
        ("/usr/bin/pwsh", 1, []),
        ("libfar.so.1", 0, ["/usr/lib/tide/bridge.so"]),
    ]
    status = linux.root / "var/lib/dpkg/status"
    status.write_text(status.read_text().replace("Package: tide\n", "Package: tide\nDepends: libfar1\n"))
    assert [each["name"] for each in surveyed.survey()["causes"]] == ["libfar.so.1", "/usr/bin/pwsh", "libtide.so.2"]


def test_processes_and_threads_find_the_same(linux: ALinuxMachine, monkeypatch: pytest.MonkeyPatch) -> None:
    files = {f"/usr/share/tide/{number}": str(number).encode() for number in range(2000)}
    linux.packages({"tide": files})
    for number in range(0, 2000, 50):
        linux.file(f"/usr/share/tide/{number}", b"other")
    machine, kept = linux.opened(), dict[str, Remembered]()
    found = []
    for much in (1, 1 << 30):
        monkeypatch.setattr("fundamen.survey.contents._MUCH", much)
        with PackageComparison(machine, Records(machine), {}, time.time_ns() + 10**10) as comparison:
            found.append(comparison.finish(kept.update))
    assert found[0] == found[1]
    assert (found[0].checked, len(found[0].altered), len(kept)) == (2003, 40, 2000)  # with folders


def test_a_way_that_is_shared_out_comes_to_each_file_once(
    linux: ALinuxMachine, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(30):
        linux.program(f"/opt/{number % 5}/{number}/tide").file(f"/opt/{number % 5}/{number}/notes", b"")
    linux.link("/opt/4/dead", "/nowhere")
    monkeypatch.setattr("fundamen.survey.walking._FILES", 1)
    monkeypatch.setattr("fundamen.survey.walking._FOLDERS", 2)
    folders = [MachinePath("/opt"), MachinePath("/opt/4")]
    alone = Walk(linux.opened(), folders)
    shared = Walk(linux.opened(), folders)
    with Workers(Where.PROCESSES, shared.go_leg) as workers:
        given = sorted(chain.from_iterable(shared.go(workers.begin)))
    assert sorted(alone) == given == list(shared.walked.executables)
    assert alone.walked == shared.walked
    assert (len(given), shared.walked.files, shared.walked.broken_links) == (30, 60, ("/opt/4/dead",))


def test_a_file_that_shrinks_while_it_is_mapped_ends_no_survey(
    linux: ALinuxMachine, monkeypatch: pytest.MonkeyPatch
) -> None:
    files = {"/usr/share/tide/large": bytes(2_000_000), "/usr/share/tide/small": b"small"}
    linux.packages({"tide": files, "ebb": {"/usr/lib/ebb": b"ebb"}})
    machine, shrinking = linux.opened(), linux.root / "usr/share/tide/large"

    def mapped(file: int, size: int, flags: int, protection: int, offset: int) -> mmap.mmap:
        content = mmap.mmap(file, size, flags, protection, offset=offset)
        faulthandler.disable()  # no one needs a report of it
        os.truncate(shrinking, 0)  # the system ends a process that reads on
        return content

    monkeypatch.setattr("fundamen.survey.contents.mmap", SimpleNamespace(**{**vars(mmap), "mmap": mapped}))
    monkeypatch.setattr("fundamen.survey.contents._MUCH", 1)
    kept = dict[str, Remembered]()
    with PackageComparison(machine, Records(machine), {}, time.time_ns() + 10**10) as comparison:
        found = comparison.finish(kept.update)
    assert [(each.path, each.finding) for each in found.altered] == [("/usr/share/tide/large", AlterationKind.DIFFERS)]
    assert sorted(kept) == ["/usr/lib/ebb", *files]


def test_a_process_that_is_ended_from_outside_is_reported_and_holds_no_one_up() -> None:
    def be_ended(_parcel: int) -> None:
        os.kill(os.getpid(), signal.SIGKILL)

    with Workers(Where.PROCESSES, be_ended) as workers:
        with pytest.raises(UnreadableError, match="was not finished"):
            list(workers.begin(be_ended, range(3)))
        with pytest.raises(UnreadableError, match="was not finished"):
            workers.begin(be_ended, [0])


def test_links_pipes_loops_and_odd_names_stop_no_survey(surveyed: Surveyed, linux: ALinuxMachine) -> None:
    linux.program("/opt/tide").link("/opt/dead", "/nowhere").link("/opt/loop", "/opt/loop").link("/opt/up", "/opt")
    os.mkfifo(linux.root / "opt/pipe.so", 0o755)
    odd = os.fsencode(linux.root) + b"/opt/\xff\xfe.so"
    Path(os.fsdecode(odd)).write_bytes(an_elf(needs=("libodd.so",)))
    cut = linux.root / "opt/cut"
    cut.write_bytes(an_elf()[:70])
    cut.chmod(0o755)
    found = surveyed.survey()
    assert found["broken_links"] == ["/opt/dead"]
    assert [cause["name"] for cause in found["causes"]] == ["cut", "libodd.so"]
    gone = surveyed.fundamen("survey", "-m", linux.root, "/gone")
    assert (gone.status, says(gone.err, "machine.there-is-no-such-folder")) == (3, True)


def test_commands_that_path_finds_twice_are_reported_unless_they_are_one_file(
    surveyed: Surveyed, linux: ALinuxMachine
) -> None:
    linux.program("/usr/bin/tide").program("/opt/tide/tide", needs=["libc.so.6"]).link(
        "/opt/same/tide", "/usr/bin/tide"
    )
    found = surveyed.survey("--env", "PATH=/opt/same:/usr/bin:/bin:/opt/tide")
    assert found["tools"] == [{"name": "tide", "first": "/opt/same/tide", "others": ["/opt/tide/tide"]}]


def test_certificates_that_end_packages_in_two_versions_and_broken_off_installations_are_reported(
    surveyed: Surveyed, linux: ALinuxMachine
) -> None:
    now = datetime.now(UTC)
    begins = now - timedelta(days=900)
    roots = [
        AnIssuer.root(n, begins=begins, ends=now + timedelta(days=d)) for n, d in (("A", -5), ("B", 9), ("C", 900))
    ]
    linux.file("/etc/ssl/certs/ca-certificates.crt", b"".join(root.pem for root in roots))
    linux.file(
        "/var/lib/dpkg/status",
        b"""\
Package: libtide
Status: install ok installed
Architecture: amd64
Version: 2

Package: libtide
Status: install ok installed
Architecture: i386
Version: 1

Package: half
Status: install ok half-configured
Version: 1

Package: broken
Status: install reinstreq half-installed
Version: 1
""",
    )
    found = surveyed.survey()
    assert [(each["name"], each["has_ended"]) for each in found["certificates"]] == [("A", True), ("B", False)]
    assert found["mixed"] == {"libtide": ["2 for amd64", "1 for i386"]}
    assert [(each["what"]["text"], each["do"]["text"]) for each in found["unfinished"]] == [
        ("half", f"chroot {linux.root} dpkg --configure --pending"),
        ("broken", f"chroot {linux.root} apt-get install --reinstall broken"),
    ]


def test_a_package_database_that_was_emptied_is_reported_with_its_backup(
    surveyed: Surveyed, linux: ALinuxMachine
) -> None:
    linux.packages({f"tide-{number}": {f"/usr/share/{number}": b"x"} for number in range(40)})
    assert surveyed.survey()["unfinished"] == []
    status = linux.root / "var/lib/dpkg/status"
    status.rename(status.with_name("status-old"))
    for left in ("", "Package: tide-0\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n"):
        status.write_text(left)
        [answer] = surveyed.survey()["unfinished"]
        assert (answer["what"]["code"], "status-old" in answer["why"]["text"]) == ("survey.the-package-database", True)


def test_every_installed_file_is_compared_and_the_next_survey_reads_only_what_changed(
    surveyed: Surveyed, linux: ALinuxMachine
) -> None:
    files = {f"/usr/share/tide/{number}": f"depth {number:04}".encode() for number in range(40)}
    linux.packages({"tide": files, "ebb": {"/usr/lib/ebb": b"ebb"}}, {"/etc/tide.conf": b"level = 1\n"})
    first = surveyed.survey("--depth", "all")
    assert (first["altered"], first["read"]) == ([], 42)
    assert surveyed.survey("--depth", "all")["read"] == 0
    sly = linux.root / "usr/share/tide/7"
    before = sly.stat()
    sly.write_bytes(b"depth 0008")
    os.utime(sly, ns=(before.st_atime_ns, before.st_mtime_ns))  # of the same size, and its time put back
    (linux.root / "usr/share/tide/9").unlink()
    (linux.root / "etc/tide.conf").write_bytes(b"level = 9\n")
    shutil.rmtree(linux.root / "usr/lib/ebb", ignore_errors=True)
    (linux.root / "usr/lib/ebb").unlink()
    os.mkfifo(linux.root / "usr/lib/ebb")
    second = surveyed.survey("--depth", "all")
    altered = {each["path"]: (each["package"], each["finding"], each["is_setting"]) for each in second["altered"]}
    assert altered == {
        "/usr/share/tide/7": ("tide", "differs", False),
        "/usr/share/tide/9": ("tide", "missing", False),
        "/etc/tide.conf": ("tide", "differs", True),
        "/usr/lib/ebb": ("ebb", "barred", False),
    }
    assert second["read"] <= 2
    assert surveyed.survey("--depth", "all", "--afresh")["altered"] == second["altered"]
    again = f"fundamen survey --machine {linux.root} --depth all --restore --rehearse"
    assert [each["text"] for each in second["next"]] == [
        again if shutil.which("apt-get") else "apt-get install --reinstall tide ebb"
    ]


def test_names_in_a_damaged_record_that_no_file_can_have_are_reported(surveyed: Surveyed, linux: ALinuxMachine) -> None:
    linux.packages({"tide": {"/usr/share/tide": b"tide"}})
    names = [b"/nul\0byte", b"/" + b"x" * 5000, b"/../../../../../../gone", b"/\xff\xfe", b"relative"]
    listed = linux.root / "var/lib/dpkg/info/tide.list"
    listed.write_bytes(listed.read_bytes() + b"\n".join(names) + b"\n")
    found = {each["path"][:9]: each["finding"] for each in surveyed.survey("--depth", "all")["altered"]}
    assert found == {
        "/nul\0byte": "barred",
        "/xxxxxxxx": "barred",
        "/../../..": "missing",
        "/\\xff\\xfe": "missing",
        "relative": "missing",
    }


def test_a_thousand_seeded_changes_are_all_found_by_the_second_survey(surveyed: Surveyed, linux: ALinuxMachine) -> None:
    chance = random.Random(7)  # noqa: S311 - to be the same each time
    files = {f"/usr/share/{n % 40}/{n}": chance.randbytes(chance.randrange(1, 300)) for n in range(1500)}
    linux.packages({"tide": files})
    assert surveyed.survey("--depth", "all")["altered"] == []
    expected = {}
    for path in chance.sample(sorted(files), 1000):
        host, data = linux.root / path[1:], files[path]
        match chance.randrange(4):
            case 0:
                host.unlink()
                expected[path] = "missing"
            case 1:
                times = host.stat()
                host.write_bytes(bytes([data[0] ^ 1]) + data[1:])
                os.utime(host, ns=(times.st_atime_ns, times.st_mtime_ns))
                expected[path] = "differs"
            case 2:
                host.write_bytes(data + b"\0")
                expected[path] = "differs"
            case _:
                new = host.with_name("new")
                new.write_bytes(data[::-1] + b"x")
                new.rename(host)
                expected[path] = "differs"
    found = surveyed.survey("--depth", "all")
    assert {each["path"]: each["finding"] for each in found["altered"]} == expected


def test_one_plan_puts_all_programs_right_that_cannot_start_and_libraries_that_are_damaged(
    surveyed: Surveyed, linux: ALinuxMachine, fundamen: Fundamen, home: Path, tmp_path: Path
) -> None:
    for name in ("gauge", "berth"):
        linux.program(f"/opt/{name}/{name}", needs=["libtide.so.2"], runpath="/opt/tide/lib")
    linux.file("/opt/tide/lib/libplug.so", an_elf(soname="libplug.so")[:90])  # nothing loads it
    source = ASource(tmp_path, home)
    for name in ("libtide.so.2", "libplug.so"):
        source.published({name: an_elf(soname=name)}, package=name, place="{root}/opt/tide/lib")
    source.trusted()
    rehearsed = fundamen("survey", "-m", linux.root, "--restore", "--rehearse")
    assert (rehearsed.status, "libtide.so.2" in rehearsed.out) == (1, True), rehearsed.out + rehearsed.err
    assert not (linux.root / "opt/tide/lib/libtide.so.2").exists()
    done = fundamen("survey", "-m", linux.root, "--restore", "--yes")
    assert done.status == 0, done.out + done.err
    assert surveyed.survey()["causes"] == []


def test_a_volume_of_windows_is_surveyed_and_what_waits_for_a_restart_is_reported(
    fundamen: Fundamen, windows: AWindowsMachine
) -> None:
    windows.system()
    windows.program("C:\\Program Files\\Tide\\tide.exe", needs=["saltgrass4.dll"])
    session = {"Session Manager": {"PendingFileRenameOperations": ("\\??\\C:\\old.dll", "")}}
    windows.registry({}, {"Control": session})
    ran = fundamen("survey", "-m", windows.root, "--json", "--depth", "all")
    [found] = ran.records
    assert [(c["name"], c["programs"]) for c in found["causes"]] == [
        ("saltgrass4.dll", ["C:\\Program Files\\Tide\\tide.exe"]),
    ]
    assert [each["what"]["code"] for each in found["unfinished"]] == ["survey.the-system"]
    assert found["gaps"][0]["code"] == "survey.keeps-no-record-of-all-installed"
