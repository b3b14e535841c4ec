"""What hinders a restoration is said before anything is changed; what takes a file away again is noticed."""

import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import ASource
from builders.tree import tree_of
from conftest import Fundamen, Ran
from fundamen.machine.open_files import User, find_users
from fundamen.model.paths import HostPath
from fundamen.restore.hindrance import restart_advice

PROGRAM, LIBRARY = "/opt/app/bin/app", an_elf(soname="liba.so")

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="machines are changed from Linux")


class Office:
    def __init__(self, linux: ALinuxMachine, source: ASource, fundamen: Fundamen) -> None:
        linux.program(PROGRAM, needs=("liba.so",), runpath="$ORIGIN/../lib").file("/opt/app/lib/liba.so", b"cut")
        self.root, self.fundamen = linux.root, fundamen
        self.library = linux.root / "opt/app/lib/liba.so"
        source.published({"liba.so": LIBRARY})
        assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0

    def restored(self, *words: str) -> Ran:
        return self.fundamen("restore", "--yes", "-m", str(self.root), *words, PROGRAM)


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
        assert (ran.status, "mounted for reading only" in ran.err) == (5, True), ran.err
        assert f"mount -o remount,rw {office.library.parent}" in ran.err
    finally:
        subprocess.run(["umount", office.library.parent], check=True)


def test_a_folder_where_a_file_should_be_is_said(office: Office) -> None:
    office.library.unlink()
    office.library.mkdir()
    before = tree_of(office.root)
    ran = office.restored()
    assert (ran.status, "something else than an ordinary file stands there: a folder" in ran.err) == (5, True), ran.err
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
        ran = office.restored("--settle", "1.0")
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


def test_services_are_restarted_by_name_and_other_programs_by_process() -> None:
    users = [User(7, "tided", "tide.service"), User(8, "tided", "tide.service"), User(9, "tidebook", "")]
    assert restart_advice(users) == ("systemctl restart tide.service", "start tidebook anew (process 9)")
