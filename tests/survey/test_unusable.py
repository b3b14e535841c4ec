"""Commands that cannot be run and certificates that are gone are faults of a machine, and come back."""

from typing import Any

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from conftest import Fundamen
from fundamen.messages import say

ALTERNATIVE = b"auto\n/usr/bin/awk\n\n/usr/bin/mawk\n5\n\n"


def unusable(fundamen: Fundamen, linux: ALinuxMachine) -> dict[str, Any]:
    [found] = fundamen("survey", "-m", str(linux.root), "--json").records
    return {each["path"]: each["why"]["code"] for each in found["unusable"]}


def test_what_no_user_of_a_machine_can_use_is_found(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    program = an_elf(interpreter="/lib64/ld-linux-x86-64.so.2")
    linux.packages({"mawk": {"/usr/bin/mawk": program, "/usr/bin/tide": program}})
    linux.file("/var/lib/dpkg/alternatives/awk", ALTERNATIVE)
    linux.link("/usr/bin/awk", "/etc/alternatives/awk").link("/etc/alternatives/awk", "/usr/bin/mawk")
    linux.file("/usr/local/bin/own", program, 0o644)  # of no one's package: someone may have meant it
    linux.file("/usr/bin/notes", b"text", 0o644)
    assert unusable(fundamen, linux) == {}
    (linux.root / "usr/bin/tide").chmod(0o644)
    (linux.root / "etc/alternatives/awk").unlink()
    assert unusable(fundamen, linux) == {
        "/usr/bin/awk": say("survey.its-alternative-leads-to-nothing").code,
        "/usr/bin/tide": say("survey.no-user-may-execute-it").code,
    }
    ran = fundamen("restore", "-m", str(linux.root), "--yes", "--no-archive", "/usr/bin/awk", "/usr/bin/tide")
    assert ran.status == 0, ran.out + ran.err
    assert unusable(fundamen, linux) == {}


def test_a_file_for_which_programs_do_not_start_counts_once(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    library = an_elf(soname="libtide.so.2")
    linux.packages({"libtide2": {"/usr/lib64/libtide.so.2.1": library, "/usr/share/tide/table": b"ebb"}})
    linux.link("/usr/lib64/libtide.so.2", "libtide.so.2.1").program("/usr/bin/gauge", needs=("libtide.so.2",))
    for damage in (library[:90], None):
        linux.file("/usr/share/tide/table", b"other")
        linux.file("/usr/lib64/libtide.so.2.1", damage or b"")
        if damage is None:
            (linux.root / "usr/lib64/libtide.so.2.1").unlink()
        [found] = fundamen("survey", "-m", str(linux.root), "--depth", "all", "--json").records
        assert (len(found["causes"]), len(found["altered"]), found["faults"]) == (1, 2, 2)
