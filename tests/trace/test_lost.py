"""A program that is gone is a fault of the package that brought it; a link that leads to nothing is named as one."""

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from conftest import Fundamen

TIDE = an_elf(interpreter="/lib64/ld-linux-x86-64.so.2")


@pytest.fixture
def harbour(linux: ALinuxMachine) -> ALinuxMachine:
    """A machine with a program of a package, reached by two links, and a library behind one."""
    library = an_elf(soname="libtide.so.2", needs=("libc.so.6",))
    linux.packages({"tidewatch": {"/usr/bin/tidewatch": TIDE, "/usr/lib64/libtide.so.2.1": library}})
    linux.link("/etc/alternatives/watch", "/usr/bin/tidewatch").link("/usr/bin/watch", "/etc/alternatives/watch")
    linux.link("/usr/lib64/libtide.so.2", "libtide.so.2.1").library("/usr/lib64/libc.so.6")
    return linux.program("/opt/gauge", needs=["libtide.so.2"])


@pytest.mark.parametrize("name", ["/usr/bin/tidewatch", "/usr/bin/watch", "tidewatch", "watch"])
def test_a_lost_program_is_a_fault_of_its_package(harbour: ALinuxMachine, fundamen: Fundamen, name: str) -> None:
    assert fundamen("trace", "-m", harbour.root, name).status == 0
    (harbour.root / "usr/bin/tidewatch").unlink()
    ran = fundamen("trace", "-m", harbour.root, name, "--json")
    [component] = ran.records[0]["components"]
    assert (ran.status, component["name"], component["verdict"]) == (1, "/usr/bin/tidewatch", "missing")
    assert "tidewatch 1" in component["reason"]["text"]
    assert (component["reason"]["code"] == "trace.is-a-link-to-it") is (name in {"watch", "/usr/bin/watch"})


def test_a_library_s_link_that_leads_to_nothing_is_named_with_its_target(
    harbour: ALinuxMachine, fundamen: Fundamen
) -> None:
    (harbour.root / "usr/lib64/libtide.so.2.1").unlink()
    [fault] = [
        each
        for each in fundamen("trace", "-m", harbour.root, "/opt/gauge", "--json").records[0]["components"]
        if each["fault"]
    ]
    assert fault["reason"]["code"] == "trace.is-a-link-to-which-is"
    assert "/usr/lib64/libtide.so.2.1" in fault["reason"]["text"]


def test_a_link_of_no_package_is_reported_with_what_lies_beside_its_target(
    harbour: ALinuxMachine, fundamen: Fundamen
) -> None:
    harbour.link("/opt/ebb", "/opt/ebb-2.1").program("/opt/ebb-2.2")
    [record] = fundamen("trace", "-m", harbour.root, "/opt/ebb", "--json").records
    assert (record["error"]["code"], "/opt/ebb-2.1" in record["error"]["why"]["text"]) == ("unreadable", True)
    assert "ebb-2.2" in record["error"]["do"]["text"]
    [record] = fundamen("trace", "-m", harbour.root, "nothing-of-this-name", "--json").records
    assert record["error"]["code"] == "unreadable"


@pytest.mark.parametrize(
    ("text", "gone"),
    [
        (
            "/opt/x: error while loading shared libraries: libtide.so.2.1: cannot open shared object file",
            "libtide.so.2.1",
        ),
        ("ModuleNotFoundError: No module named 'berth.chart'", "berth/chart.py"),
        ("Can't locate Berth/Chart.pm in @INC (you may need to install the Berth::Chart module)", "Berth/Chart.pm"),
        ("sh: 1: /usr/bin/tidewatch: not found", "tidewatch"),
    ],
)
def test_a_message_leads_to_the_package_of_the_file_that_is_gone(
    harbour: ALinuxMachine, fundamen: Fundamen, text: str, gone: str
) -> None:
    harbour.packages(
        {
            "tidewatch": {
                "/usr/bin/tidewatch": TIDE,
                "/usr/lib64/libtide.so.2.1": TIDE,
                "/usr/lib/python3/dist-packages/berth/chart.py": b"x = 1\n",
                "/usr/share/perl5/Berth/Chart.pm": b"1;\n",
            }
        }
    )
    [path] = [each for each in harbour.root.rglob(gone.rpartition("/")[2]) if each.is_file()]
    path.unlink()
    [record] = fundamen("clues", "-m", harbour.root, "--text", text, "--json").records
    [lost] = record["behind"]["lost"]
    assert (lost["path"], lost["package"]) == (f"/{path.relative_to(harbour.root)}", "tidewatch")
    assert [each["text"] for each in record["next"]] == [
        f"fundamen restore --machine {harbour.root} --rehearse /var/lib/dpkg/info/tidewatch.list"
    ]
