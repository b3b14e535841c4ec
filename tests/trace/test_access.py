"""A program's files are judged for the user who runs it; truth from the kernel, which really keeps that user out."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from builders.compiled import compiled
from builders.machine import ALinuxMachine
from builders.source import ASource
from conftest import Fundamen
from fundamen.formats.unix.access import acl_bytes
from fundamen.machine.access import ORDINARY, find_barrier, find_user, user_of
from fundamen.machine.machine import ACCESS_LIST
from fundamen.model.errors import UsageError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.trace import trace_program
from wording import says

PASSWD = b"root:x:0:0::/root:/bin/sh\ntide:x:2000:2000::/:/bin/sh\n"
GROUP = b"root:x:0:\ntide:x:2000:\nharbour:x:3000:gauge,tide\n"


@pytest.fixture
def office(linux: ALinuxMachine) -> ALinuxMachine:
    linux.file("/etc/passwd", PASSWD).file("/etc/group", GROUP)
    linux.program("/opt/app/bin/app", needs=("liba.so",), runpath="/opt/app/lib").library("/opt/app/lib/liba.so")
    (linux.root / "opt/app/bin/app").chmod(0o755)
    return linux


def faults(machine: ALinuxMachine) -> list[tuple[str, Verdict]]:
    return [(fault.name, fault.verdict) for fault in machine.trace("/opt/app/bin/app").faults]


@pytest.mark.parametrize(
    ("entry", "mode", "verdict"),
    [
        ("opt/app/lib/liba.so", 0o600, Verdict.BLOCKED),
        ("opt/app/lib/liba.so", 0o640, Verdict.BLOCKED),
        ("opt/app/lib/liba.so", 0o444, None),
        ("opt/app/lib", 0o700, Verdict.BLOCKED),
        ("opt/app/lib", 0o711, None),
        ("opt/app/bin", 0o700, None),  # no ordinary user may run it, so it is not judged for one
        ("opt/app/bin/app", 0o700, None),
        ("opt/app/bin/app", 0o4755, None),
    ],
)
def test_what_an_ordinary_user_may_not_read_is_blocked(
    office: ALinuxMachine, entry: str, mode: int, verdict: Verdict | None
) -> None:
    assert faults(office) == []
    (office.root / entry).chmod(mode)
    if mode == 0o4755:
        (office.root / "opt/app/lib/liba.so").chmod(0o600)
    assert faults(office) == ([("liba.so", verdict)] if verdict is not None else [])


def test_the_loader_goes_on_to_a_copy_that_the_user_may_read(linux: ALinuxMachine) -> None:
    linux.program("/app", needs=("liba.so",), runpath="/one:/other").library("/one/liba.so").library("/other/liba.so")
    (linux.root / "app").chmod(0o755)
    (linux.root / "one/liba.so").chmod(0o600)
    need = linux.need("/app", "liba.so")
    assert (need.path, need.verdict.is_fault) == ("/other/liba.so", False)


def test_a_named_user_is_judged_by_owner_groups_and_others(office: ALinuxMachine) -> None:
    library = office.root / "opt/app/lib/liba.so"
    machine = office.opened()
    tide = find_user(machine, "tide")
    assert (tide.uid, tide.gids) == (2000, frozenset({2000, 3000}))
    if os.geteuid():
        pytest.skip("owners are given by the administrator alone")
    for uid, gid, mode, may in (
        (0, 3000, 0o640, True),
        (0, 3000, 0o604, False),
        (2000, 0, 0o044, False),
        (0, 0, 0o604, True),
    ):
        os.chown(library, uid, gid)
        library.chmod(mode)
        barrier = find_barrier(office.opened(), MachinePath("/opt/app/lib/liba.so"), tide)
        assert (barrier is None) is may, (uid, gid, oct(mode))
    with pytest.raises(UsageError):
        find_user(machine, "nobody-at-all")


def test_a_program_of_the_administrator_alone_is_judged_for_no_ordinary_user(office: ALinuxMachine) -> None:
    assert user_of(office.opened(), MachinePath("/opt/app/bin/app")) == ORDINARY
    (office.root / "opt/app/bin/app").chmod(0o700)
    assert user_of(office.opened(), MachinePath("/opt/app/bin/app")) is None


def test_restore_gives_the_rights_and_undo_takes_them_back(office: ALinuxMachine, fundamen: Fundamen) -> None:
    folder, library, words = office.root / "opt/app/lib", office.root / "opt/app/lib/liba.so", ("-m", office.root)
    folder.chmod(0o700)
    library.chmod(0o640)
    rehearsed = fundamen("restore", "--rehearse", *words, "/opt/app/bin/app")
    assert (rehearsed.status, "change the rights of 2 entries" in rehearsed.out) == (1, True), rehearsed.out
    assert fundamen("restore", "--yes", *words, "/opt/app/bin/app").status == 0
    assert (folder.stat().st_mode & 0o777, library.stat().st_mode & 0o777) == (0o711, 0o644)
    assert faults(office) == []
    assert fundamen("undo", *words).status == 0
    assert (folder.stat().st_mode & 0o777, library.stat().st_mode & 0o777) == (0o700, 0o640)


def test_what_is_replaced_becomes_readable_for_the_user(
    office: ALinuxMachine, fundamen: Fundamen, tmp_path: Path, home: Path
) -> None:
    source, library = ASource(tmp_path, home), office.root / "opt/app/lib/liba.so"
    source.published({"liba.so": library.read_bytes()})
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    library.write_bytes(library.read_bytes()[:-40])
    library.chmod(0o640)
    ran = fundamen("restore", "--yes", "-m", office.root, "/opt/app/bin/app")
    assert (ran.status, library.stat().st_mode & 0o777) == (0, 0o644), ran.out + ran.err
    assert fundamen("undo", "-m", office.root).status == 0
    assert library.stat().st_mode & 0o777 == 0o640


def test_as_names_the_user(office: ALinuxMachine, fundamen: Fundamen) -> None:
    (office.root / "opt/app/bin/app").chmod(0o750)
    ran = fundamen("trace", "-m", office.root, "--as", "tide", "--json", "/opt/app/bin/app")
    assert (ran.status, ran.records[0]["components"][0]["verdict"]) == (1, "blocked")
    unknown = fundamen("trace", "-m", office.root, "--as", "quay", "/opt/app/bin/app")
    assert (unknown.status, says(unknown.err, "machine.of-does-not-list-this-user")) == (2, True), unknown.err


@pytest.mark.skipif(os.geteuid() != 0, reason="only the administrator can run a program as another user")
@pytest.mark.parametrize("mode", [0o600, 0o644])
def test_the_kernel_agrees(fundamen: Fundamen, tmp_path: Path, mode: int) -> None:
    for folder in (tmp_path, *tmp_path.parents[:-2]):
        folder.chmod(folder.stat().st_mode | 0o111)
    library = compiled(tmp_path / "libtide.so", "int tide(void) { return 0; }", "-shared", "-fPIC")
    program = compiled(
        tmp_path / "app", "int tide(void); int main(void) { return tide(); }", f"-Wl,-rpath,{tmp_path}", str(library)
    )
    program.chmod(0o755)
    library.chmod(mode)
    ran = subprocess.run([program], user=65534, group=65534, extra_groups=[], capture_output=True, check=False)
    traced = fundamen("trace", "--json", program)
    blocked = [each["name"] for each in traced.records[0]["components"] if each["verdict"] == "blocked"]
    assert (ran.returncode == 0, blocked == []) == (mode == 0o644, mode == 0o644), traced.out


@pytest.mark.skipif(os.geteuid() != 0, reason="lists are given to entries, and accounts are changed")
@pytest.mark.parametrize(
    ("acl", "mode"),
    [
        ("u::rw-,u:tide:---,g::r--,m::r--,o::r--", 0o644),  # a user by name is kept out
        ("u::rw-,u:tide:r--,g::---,m::r--,o::---", 0o640),  # and another let in
        ("u::rw-,u:tide:r--,g::---,m::---,o::r--", 0o604),  # an empty mask: Linux does not ask the list
        ("u::rw-,u:tide:r--,g::---,m::-w-,o::r--", 0o624),  # but not beyond the mask
        ("u::rw-,g::r--,g:harbour:---,m::r--,o::r--", 0o644),  # a group by name
        ("u::rw-,g::---,g:harbour:r--,m::r--,o::---", 0o640),
    ],
)
def test_a_list_decides_as_the_kernel_does(office: ALinuxMachine, acl: str, mode: int) -> None:
    file = office.file("/srv/it", b"tide", mode).root / "srv/it"
    numbers = {"tide": 2000, "harbour": 3000}
    try:
        os.setxattr(file, ACCESS_LIST, acl_bytes(acl, lambda _kind, name: numbers[name]))
    except OSError:
        pytest.skip("this file system has no access lists")
    machine = office.opened()
    ours = find_barrier(machine, MachinePath("/srv/it"), find_user(machine, "tide"))
    handle = os.open(file.parent, os.O_PATH)  # the folders above are another matter
    become = "import os, sys; os.setgroups([3000]); os.setgid(2000); os.setuid(2000)"
    command = [sys.executable, "-c", f"{become}; os.open('it', 0, dir_fd=int(sys.argv[1]))", str(handle)]
    read = subprocess.run(command, pass_fds=[handle], capture_output=True, check=False)
    os.close(handle)
    assert (ours is None) == (read.returncode == 0), read.stderr


@pytest.mark.skipif(os.geteuid() != 0, reason="lists are given to entries")
def test_a_library_that_a_list_closes_to_the_user_is_blocked(office: ALinuxMachine) -> None:
    library = office.root / "opt/app/lib/liba.so"
    machine = office.opened()
    machine.run_as = find_user(machine, "tide")
    try:
        os.setxattr(library, ACCESS_LIST, acl_bytes("u::rw-,u:tide:---,g::r--,m::r--,o::r--", lambda *_given: 2000))
    except OSError:
        pytest.skip("this file system has no access lists")
    [fault] = trace_program(machine, MachinePath("/opt/app/bin/app")).faults
    assert (fault.name, fault.verdict) == ("liba.so", Verdict.BLOCKED)
