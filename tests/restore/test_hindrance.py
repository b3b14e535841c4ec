"""Obstacles to a restoration are shown before anything is changed; later losses are noticed."""

import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.hive import a_hive
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.pe import a_pe
from builders.source import ASource
from builders.tree import tree_of
from command import Ran
from conftest import Fundamen
from fundamen.changes.base import Work
from fundamen.changes.files import Change
from fundamen.execution.restarting import find_restarts, judge_waiting
from fundamen.formats.windows.hive import with_values
from fundamen.formats.windows.registry_value import HiveValue, ValueType
from fundamen.machine.open_files import User, find_users
from fundamen.machine.opening import open_machine
from fundamen.messages import say
from fundamen.model.paths import HostPath, MachinePath
from wording import says

PROGRAM, LIBRARY = "/opt/app/bin/app", an_elf(soname="liba.so")

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="machines are changed from Linux")


class Office:
    def __init__(self, linux: ALinuxMachine, source: ASource, fundamen: Fundamen) -> None:
        linux.program(PROGRAM, needs=("liba.so",), runpath="$ORIGIN/../lib").file("/opt/app/lib/liba.so", b"cut")
        self.root, self.fundamen = linux.root, fundamen
        self.library = linux.root / "opt/app/lib/liba.so"
        source.published({"liba.so": LIBRARY})
        assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0

    def restored(self, *words: str, **environment: str) -> Ran:
        return self.fundamen("restore", "--yes", "-m", str(self.root), *words, PROGRAM, **environment)


@pytest.fixture
def office(linux: ALinuxMachine, tmp_path: Path, home: Path, fundamen: Fundamen) -> Office:
    return Office(linux, ASource(tmp_path, home), fundamen)


@contextmanager
def flagged(path: Path, flag: str) -> Iterator[None]:
    chattr = shutil.which("chattr")
    if chattr is None or subprocess.run([chattr, f"+{flag}", path], capture_output=True, check=False).returncode:
        pytest.skip("no flags can be set here")
    try:
        yield
    finally:
        subprocess.run([chattr, f"-{flag}", path], check=True)


@pytest.mark.parametrize(("flag", "word"), [("i", "immutable"), ("a", "append-only")])
@pytest.mark.parametrize("of_folder", [True, False], ids=["folder", "file"])
def test_a_flag_that_forbids_changes_is_named_with_what_takes_it_off(
    office: Office, flag: str, word: str, *, of_folder: bool
) -> None:
    path, before = office.library.parent if of_folder else office.library, tree_of(office.root)
    with flagged(path, flag):
        ran = office.restored()
        assert (ran.status, f"{path} is {word}" in ran.err) == (5, True), ran.err
        assert f"chattr -{flag} {path}" in ran.err
    assert tree_of(office.root) == before
    assert office.restored().status == 0


def test_a_file_system_for_reading_only_is_named_with_its_mount_point(office: Office) -> None:
    mounting = ["mount", "-t", "tmpfs", "-o", "ro", "none", str(office.library.parent)]
    if os.geteuid() != 0 or subprocess.run(mounting, capture_output=True, check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        ran = office.restored()
        assert (ran.status, says(ran.err, "execution.its-file-system-is-mounted-for")) == (5, True), ran.err
        assert says(ran.err, "execution.mount-o-remount-rw", path=office.library.parent)
    finally:
        subprocess.run(["umount", office.library.parent], check=True)


@pytest.mark.parametrize("make", [Path.mkdir, os.mkfifo], ids=["folder", "pipe"])
@pytest.mark.parametrize("planned", [False, True], ids=["at once", "by a plan file"])
def test_what_is_in_the_place_of_a_file_is_set_aside_and_comes_back(
    office: Office, tmp_path: Path, make: Callable[[Path], None], *, planned: bool
) -> None:
    office.library.unlink()
    make(office.library)
    before = tree_of(office.root)
    if planned:
        plan = str(tmp_path / "it.plan")
        assert office.restored("--rehearse", "--save-plan", plan).status == 1
        ran = office.fundamen("plans", "run", "--yes", "-m", str(office.root), plan)
    else:
        ran = office.restored()
    assert ran.status == 0, ran.out + ran.err
    assert office.library.read_bytes() == LIBRARY
    assert len(list(office.library.parent.iterdir())) == 2
    assert office.fundamen("undo", "-m", str(office.root)).status == 0
    assert tree_of(office.root) == before


def test_what_vanishes_again_after_it_was_placed_is_noticed(office: Office) -> None:
    done = threading.Event()

    def scan() -> None:
        while not done.is_set():
            if office.library.exists() and office.library.read_bytes() == LIBRARY:
                office.library.unlink()
            time.sleep(0.01)

    scanner = threading.Thread(target=scan)
    scanner.start()
    try:
        ran = office.restored(FUNDAMEN_SETTLE="1.0")
    finally:
        done.set()
        scanner.join()
    assert (ran.status, "Changed again by itself since it was placed" in ran.out) == (1, True), ran.out + ran.err
    assert "exclude exactly this path" in " ".join(ran.out.split())
    assert office.fundamen("undo", "-m", str(office.root)).status == 0
    assert office.library.read_bytes() == b"cut"


def test_a_process_that_has_a_file_open_or_mapped_is_found(tmp_path: Path) -> None:
    path = tmp_path / "liba.so"
    path.write_bytes(bytes(8192))
    mapping = "import mmap, sys; f = open(sys.argv[1], 'rb'); m = mmap.mmap(f.fileno(), 0, prot=1); f.close()"
    holding = "import sys; f = open(sys.argv[1], 'rb')"
    for script in (mapping, holding):
        command = [sys.executable, "-c", f"{script}; print('up', flush=True); sys.stdin.read()", str(path)]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as process:
            assert process.stdout is not None
            assert process.stdout.readline() == b"up\n"
            found = find_users([HostPath(str(path))])
            process.communicate(b"")
        assert [user.pid for user in found] == [process.pid]
    assert find_users([HostPath(str(path)), HostPath("/nothing")]) == ()


def test_services_are_restarted_by_name_and_other_programs_by_process(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    users = (User(7, "tided", "tide.service"), User(8, "tided", "tide.service"), User(9, "tidebook", ""))
    monkeypatch.setattr("fundamen.execution.restarting.find_users", lambda _targets: users)
    change = Change(path=MachinePath(str(tmp_path / "liba.so")), because="corrupt", sha256="", size=0)
    found = find_restarts(open_machine("/", environment={}), Work(MachinePath("/x"), (), (change,), {}))
    assert [each.what for each in found] == [
        say("execution.systemctl-restart", name="tide.service"),
        say("execution.restart-process", name="tidebook", number="9"),
    ]


@pytest.mark.parametrize(
    ("path", "what"),
    [
        ("/etc/environment", "log in again"),
        ("/etc/security/limits.d/tide.conf", "log in again"),
        ("/etc/sysctl.d/tide.conf", "sysctl --system"),
        ("/etc/ld.so.conf.d/tide.conf", "ldconfig"),
        ("/etc/systemd/system/multi-user.target.wants/tide.service", "systemctl daemon-reload"),
        ("/opt/tide/tide.conf", None),
    ],
)
def test_what_keeps_the_old_state_is_reported_and_nothing_else(
    linux: ALinuxMachine, path: str, what: str | None
) -> None:
    change = Change(path=MachinePath(path), because="missing", sha256="", size=0)
    work = Work(MachinePath("/x"), (), (change,), {})
    assert [each.what for each in find_restarts(open_machine("/", environment={}), work)] == ([what] if what else [])
    assert find_restarts(linux.opened(), work) == ()


@contextmanager
def an_installer(*words: str) -> Iterator[int]:
    """A process that waits; given some files, it has them open, and the first of them locked."""
    script = (
        "import fcntl, sys\nfiles = [open(path, 'r+b') for path in sys.argv[1:]]\n"
        "[fcntl.lockf(file, fcntl.LOCK_EX) for file in files]\nprint('up', flush=True); sys.stdin.read()"
    )
    command = [sys.executable, "-c", script, *words]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        assert process.stdout.readline() == b"up\n"
        yield process.pid
        process.communicate(b"")


def test_an_installer_that_waits_may_go_on_must_be_started_over_or_must_not_be_touched(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    host, library, lock = open_machine("/", environment={}), tmp_path / "liba.so", tmp_path / "lock"
    library.write_bytes(b"old")
    lock.touch()
    monkeypatch.setattr("fundamen.machine.open_files._LOCKS", (str(lock),))

    def judged(path: str, pid: int) -> tuple[str, str]:
        change = Change(path=MachinePath(path), because="corrupt", sha256="", size=0)
        waiting = judge_waiting(host, Work(MachinePath("/x"), (), (change,), {}), str(pid))
        return waiting.verdict, waiting.why

    with an_installer() as pid:
        assert judged(str(library), pid)[0] == "may continue"
        verdict, why = judged("/etc/environment", pid)
        assert (verdict, says(why, "execution.log-in-again-first")) == ("must be started again", True)
    assert judged(str(library), pid) == (
        "must be started again",
        say("execution.it-has-ended-what-it-had"),
    )
    with an_installer(str(library)) as pid:
        verdict, why = judged(str(library), pid)
        assert (verdict, says(why, "execution.it-has-a-file-loaded-or")) == ("must be started again", True)
    with an_installer(str(lock)) as pid:
        assert judged(str(library), pid) == (
            "must not be touched",
            say("execution.it-holds-so-it-is-in", lock=lock),
        )


def test_what_windows_is_about_to_do_at_its_next_start_is_said(
    windows: AWindowsMachine, tmp_path: Path, home: Path, fundamen: Fundamen
) -> None:
    renames = ["\\??\\C:\\Windows\\System32\\x.dll", "", "\\??\\C:\\new.dll", "!\\??\\C:\\App\\y.dll"]
    raw = HiveValue(ValueType.TEXTS, ("\0".join(renames) + "\0\0").encode("utf-16-le"))
    hive = a_hive({"ControlSet001": {"Control": {"Session Manager": {}}}, "Select": {"Current": 1}})
    config = windows.root / "Windows/System32/config"
    config.mkdir()
    key = "ControlSet001\\Control\\Session Manager"
    (config / "SYSTEM").write_bytes(with_values(hive, key, {"PendingFileRenameOperations": raw}, 0))
    source = ASource(tmp_path, home)
    for name in ("x.dll", "y.dll"):
        source.published({name: a_pe(name=name)}, place="{system}" if name == "x.dll" else "{root}/App", package=name)
        windows.program(f"C:\\{name}.exe", needs=(name,)).program(f"C:\\App\\{name}.exe", needs=(name,))
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    for program, what in (("C:\\x.dll.exe", "delete"), ("C:\\App\\y.dll.exe", "put another file over")):
        ran = fundamen("restore", "--yes", "-m", str(windows.root), program)
        assert (ran.status, says(ran.err, "execution.windows-is-about-to-it-at", then=what)) == (5, True), ran.err


def test_a_name_that_differs_in_case_is_pointed_out(linux: ALinuxMachine, fundamen: Fundamen) -> None:
    linux.program(PROGRAM, needs=("libTide.so",), runpath="$ORIGIN").library("/opt/app/bin/libtide.so")
    ran = fundamen("trace", "-m", str(linux.root), PROGRAM)
    assert "/opt/app/bin/libtide.so lies there: its name differs in case" in " ".join(ran.out.split())


def test_two_names_that_are_one_to_windows_are_said(
    windows: AWindowsMachine, tmp_path: Path, home: Path, fundamen: Fundamen
) -> None:
    source = ASource(tmp_path, home).published({"x.dll": a_pe(name="x.dll")}, place="{system}")
    windows.program("C:\\x.exe", needs=("x.dll",)).file("C:\\Windows\\System32\\x.dll", b"cut")
    windows.file("C:\\Windows\\System32\\X.DLL", b"cut too")
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    ran = fundamen("restore", "--yes", "-m", str(windows.root), "C:\\x.exe")
    assert (ran.status, "X.DLL and x.dll differ only in case" in " ".join(ran.err.split())) == (5, True), ran.err


def test_a_link_that_leads_out_of_the_machine_is_never_written_through(office: Office, tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "liba.so").write_bytes(b"somebody else's")
    office.library.unlink()
    office.library.parent.rmdir()
    office.library.parent.symlink_to(outside)
    office.restored()
    assert (outside / "liba.so").read_bytes() == b"somebody else's"
    assert (
        office.root / str(outside).lstrip("/") / "liba.so"
    ).read_bytes() == LIBRARY  # links are followed inside the root
