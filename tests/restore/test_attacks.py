"""Someone exchanges folders of a machine for links that lead out, whenever they like: nothing outside changes."""

import ctypes
import json
import multiprocessing
import os
import random
import shutil
import sqlite3
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path

import pytest

from builders.machine import ALinuxMachine
from builders.tree import Tree, tree_of, without_times
from conftest import Fundamen
from fundamen.changes.base import MISSING, Site, Work
from fundamen.changes.files import Change
from fundamen.execution.carrying_out import carry_out, resume
from fundamen.execution.home import journal_of
from fundamen.execution.journal import STANDING, Journal, RestorationState
from fundamen.execution.taking_back import undo
from fundamen.machine import descent
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.opening import open_machine
from fundamen.model.errors import FundamenError, RestorationError, UnfinishedError, UnreadableError
from fundamen.model.paths import HostPath, MachinePath

OLD, NEW, THEIRS = b"as it was", b"as it should be", b"somebody else's"
NAMES = ("tide", "ebb")
LONG = [pytest.mark.system, pytest.mark.long]


class Office:
    """A machine with a folder ``/opt/lib`` that is restored into, and a folder outside with files of those names."""

    def __init__(self, linux: ALinuxMachine, folder: Path) -> None:
        self.root, self.folder, self.outside = linux.root, linux.root / "opt/lib", folder / "outside"
        self.outside.mkdir()
        linux.file("/opt/lib/tide", OLD)
        for name in ("tide", "ebb", "lamp"):
            (self.outside / name).write_bytes(THEIRS)
        self.theirs = self._tree()
        self.machine: Machine = linux.opened()
        self.journal = Journal(Site(self.machine, HostPath(str(folder / "journal"))))
        ours = folder / "ours"
        ours.write_bytes(NEW)
        digest = sha256(NEW).hexdigest()
        steps = [
            Change(path=MachinePath(f"/opt/lib/{name}"), because=MISSING, sha256=digest, size=len(NEW))
            for name in NAMES
        ]
        self.work = Work(MachinePath("/opt/tide"), ("it",), tuple(steps), {digest: HostPath(str(ours))})

    def _tree(self) -> Tree:
        return without_times(tree_of(self.outside))

    def restore(self, before_each: Callable[[], None] = lambda: None, *, stops: bool = False) -> None:
        carry_out(self.machine, self.work, self.journal, datetime.now(UTC), lambda _path: before_each(), lambda: stops)

    def exchange(self, target: str = "") -> None:
        """Someone sets the folder aside and puts a link in its place."""
        self.folder.rename(self.root / "opt/was")
        self.folder.symlink_to(target or self.outside)

    def give_back(self) -> None:
        self.folder.unlink()
        (self.root / "opt/was").rename(self.folder)

    def end(self, *, undoes: bool) -> None:
        """Resume what was interrupted, and undo what was made, until it succeeds."""
        while entries := self.journal.entries(STANDING):
            with suppress(FundamenError):
                if not entries[-1].is_unfinished and not undoes:
                    return
                if entries[-1].state is RestorationState.UNDER_WAY and not undoes:
                    resume(self.journal)
                else:
                    undo(self.journal, entries[-1].number)

    def require_untouched(self) -> None:
        assert self._tree() == self.theirs


@pytest.fixture(params=["in one call", "name by name"])
def office(in_memory: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[Office]:
    """With the system's call that descends at once, and without."""
    if request.param == "name by name":
        monkeypatch.setattr(descent, "_at_once", lambda: None)
    office = Office(ALinuxMachine(in_memory / "linux"), in_memory)
    yield office
    office.require_untouched()


@pytest.mark.parametrize("target", ["", "../../outside", "/outside", "was"])
def test_an_undo_refuses_and_goes_on_once_the_folder_is_back(office: Office, target: str) -> None:
    before = tree_of(office.root)
    office.restore()
    office.exchange(target)
    seen = tree_of(office.root)
    with pytest.raises(RestorationError):
        undo(office.journal, None)
    assert tree_of(office.root) == seen
    office.give_back()
    undo(office.journal, None)
    assert {name: state[0] for name, state in tree_of(office.root).items()} == {n: s[0] for n, s in before.items()}


def test_another_folder_in_its_place_is_not_the_one_that_was_changed(office: Office) -> None:
    office.restore()
    office.folder.rename(office.root / "opt/was")
    shutil.copytree(office.root / "opt/was", office.folder)
    with pytest.raises(RestorationError, match="another folder now"):
        undo(office.journal, None)
    assert (office.folder / "tide").read_bytes() == NEW


def test_one_that_was_stopped_is_not_gone_on_with(office: Office) -> None:
    with pytest.raises(UnfinishedError):
        office.restore(stops=True)
    office.exchange()
    with pytest.raises(RestorationError):
        resume(office.journal)
    office.give_back()
    resume(office.journal)
    assert (office.folder / "ebb").read_bytes() == NEW


def test_what_was_exchanged_while_the_question_stood_open_is_not_written_to(office: Office) -> None:
    assert office.machine.look(MachinePath("/opt/lib/tide")).kind is EntryKind.FILE  # the question is asked now
    office.exchange()
    with pytest.raises((RestorationError, UnfinishedError)):
        office.restore()


def test_what_is_exchanged_between_the_journal_and_the_first_file_is_not_written_to(office: Office) -> None:
    with pytest.raises((RestorationError, UnfinishedError)):
        office.restore(lambda: None if office.folder.is_symlink() else office.exchange())
    office.give_back()
    with suppress(FundamenError):
        undo(office.journal, None)
    assert (office.folder / "tide").read_bytes() == OLD


def test_a_second_name_outside_keeps_its_content_and_mode(office: Office) -> None:
    (office.folder / "tide").unlink()
    os.link(office.outside / "tide", office.folder / "tide")
    theirs = (office.outside / "tide").stat()
    office.restore()
    assert ((office.folder / "tide").read_bytes(), (office.outside / "tide").read_bytes()) == (NEW, THEIRS)
    undo(office.journal, None)
    now = (office.outside / "tide").stat()
    assert (now.st_ino, now.st_mode, now.st_mtime_ns) == (theirs.st_ino, theirs.st_mode, theirs.st_mtime_ns)
    assert (office.folder / "tide").samefile(office.outside / "tide")


def test_what_is_planted_under_a_name_of_ours_is_not_followed(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "urandom", bytes)
    (office.folder / f".fundamen-{'0' * 16}").symlink_to(office.outside / "lamp")
    with suppress(FundamenError):
        office.restore()


@contextmanager
def exchanging(one: Path, other: Path) -> Iterator[None]:
    """While the block lasts, another process exchanges two entries again and again. Source: renameat2(2)."""
    process = multiprocessing.get_context("fork").Process(
        target=_exchange, args=(bytes(one), bytes(other)), daemon=True
    )
    process.start()
    try:
        yield
    finally:
        process.kill()
        process.join()


def _exchange(one: bytes, other: bytes) -> None:
    renameat2, at_here, exchanged = ctypes.CDLL(None).renameat2, -100, 2
    chance = random.Random(1)  # noqa: S311 - the moments are what varies
    while True:
        for longest in (0.001, 0.02):  # seconds that the trap is open, and that the folder is back
            renameat2(at_here, one, at_here, other, exchanged)
            time.sleep(longest * chance.random() ** 2)


@pytest.mark.parametrize("tries", [150, pytest.param(2000, marks=LONG)])
def test_in_a_tight_loop_nothing_outside_is_written(office: Office, tries: int) -> None:
    trap = office.root / "opt/trap"
    trap.symlink_to(office.outside)
    ended = {"done": 0, "refused": 0}
    with exchanging(office.folder, trap):
        for number in range(tries):
            try:
                office.restore(stops=number % 3 == 0)
                ended["done"] += 1
            except FundamenError:
                ended["refused"] += 1
            office.require_untouched()
            office.end(undoes=number % 2 == 0)
            office.require_untouched()
    assert min(ended.values()) > tries / 100, ended


@pytest.mark.parametrize("tries", [3000, pytest.param(10_000, marks=LONG)])
def test_in_a_tight_loop_nothing_outside_is_read(office: Office, tries: int) -> None:
    trap = office.root / "opt/trap"
    trap.symlink_to(office.outside)
    seen = set[bytes | None]()
    with exchanging(office.folder, trap):
        for _ in range(tries):
            machine = office.machine.afresh()
            try:
                seen.add(machine.content(MachinePath("/opt/lib/tide"), 100))
                assert "lamp" not in machine.names(MachinePath("/opt/lib"))
            except UnreadableError:
                seen.add(None)
    assert seen == {OLD, None}


def test_a_report_is_not_written_through_what_was_planted_beside_it(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path
) -> None:
    linux.program("/opt/tide")
    (tmp_path / "theirs").write_bytes(THEIRS)
    (tmp_path / "report.html.part").symlink_to(tmp_path / "theirs")
    assert fundamen("trace", "-m", linux.root, "/opt/tide", "--write", "report.html").status in {0, 1}
    assert (tmp_path / "theirs").read_bytes() == THEIRS
    assert b"<html" in (tmp_path / "report.html").read_bytes()


def test_another_disk_at_the_same_folder_has_restorations_of_its_own(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path, home: Path
) -> None:
    linux.file("/etc/machine-id", b"0123456789abcdef" * 2 + b"\n")
    machine = linux.opened()
    office = tmp_path / "office"
    office.mkdir()
    work = Office(linux, office).work
    carry_out(machine, work, journal_of(machine, HostPath(str(home))), datetime.now(UTC))
    elsewhere = tmp_path / "elsewhere"
    linux.root.rename(elsewhere)
    assert [len(r["restorations"]) for r in fundamen("history", "-m", elsewhere, "--json").records] == [1]
    shutil.copytree(elsewhere, linux.root)  # another disk, with a copy of that system
    assert [len(r["restorations"]) for r in fundamen("history", "-m", linux.root, "--json").records] == [0]
    assert fundamen("undo", "-m", linux.root).status == 2
    assert (linux.root / "opt/lib/tide").read_bytes() == NEW
    assert fundamen("undo", "-m", elsewhere).status == 0
    assert (elsewhere / "opt/lib/tide").read_bytes() == OLD


def test_a_state_folder_that_others_may_write_to_is_refused_with_what_mends_it(
    fundamen: Fundamen, linux: ALinuxMachine, home: Path
) -> None:
    home.mkdir()
    home.chmod(0o777)
    ran = fundamen("history", "-m", linux.root)
    assert (ran.status, f"chmod go-w {home}" in " ".join(ran.err.split())) == (2, True), ran.err
    home.chmod(0o755)
    assert fundamen("history", "-m", linux.root).status == 0
    os.chown(home, 12345, -1)
    assert fundamen("restore", "-m", linux.root, "/opt/tide").status == 2


def test_a_folder_of_our_state_is_its_users_alone(fundamen: Fundamen, linux: ALinuxMachine, home: Path) -> None:
    fundamen("history", "-m", linux.root)
    assert home.stat().st_mode & 0o777 == 0o700


def test_a_new_journal_leaves_the_originals_of_one_that_was_moved_away_which_can_be_taken_in_again(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path, home: Path
) -> None:
    machine = linux.opened()
    office = tmp_path / "office"
    office.mkdir()
    work = Office(linux, office).work
    fundamen("history", "-m", linux.root)
    for _ in range(2):
        (linux.root / "opt/lib/tide").write_bytes(OLD)
        journal = journal_of(machine, HostPath(str(home)))
        carry_out(machine, work, journal, datetime.now(UTC))
        [answer] = fundamen("history", "-m", linux.root, "--json").records
        assert len(answer["restorations"]) == 1
        Path(journal.folder, "journal.sqlite").rename(tmp_path / "moved.sqlite")
    [answer] = fundamen("history", "-m", linux.root, "--json").records
    assert (answer["restorations"], answer["without_journal"]) == ([], 2)
    [answer] = fundamen("history", "-m", linux.root, "--take-in", "--json").records
    assert ([each["state"] for each in answer["restorations"]], answer["without_journal"]) == (["done", "done"], 0)
    [answer] = fundamen("history", "-m", linux.root, "--take-in", "--json").records
    assert (len(answer["restorations"]), answer["without_journal"]) == (2, 0)
    assert fundamen("undo", "-m", linux.root).status == 0
    assert (linux.root / "opt/lib/tide").read_bytes() == OLD


def test_a_journal_of_the_format_before_is_undone_where_the_machine_is_mounted_where_it_was(office: Office) -> None:
    office.restore()
    with closing(sqlite3.connect(Path(office.journal.folder, "journal.sqlite"))) as journal, journal:
        for number, text in journal.execute("SELECT number, record FROM step").fetchall():
            journal.execute("UPDATE step SET record = ? WHERE number = ?", (as_format_2(text, office), number))
        journal.execute("DROP TABLE identity")
        journal.execute("PRAGMA user_version = 2")
    moved = office.root.parent / "moved"
    office.root.rename(moved)
    with pytest.raises(UnreadableError, match="the machine lies at"):
        Journal(Site(open_machine(str(moved), environment={}), office.journal.folder)).entries()
    moved.rename(office.root)
    assert undo(office.journal, None).number == 1
    assert ((office.folder / "tide").read_bytes(), (office.folder / "ebb").exists()) == (OLD, False)


def as_format_2(text: str, office: Office) -> str:
    """A record with host paths, as the version before wrote it."""
    record = json.loads(text)
    del record["form"]
    for name in ("target", "staged"):
        record[name] = f"{office.root}{record[name]}"
    record["folders"] = [{**each, "path": f"{office.root}{each['path']}"} for each in record["folders"]]
    record["kept"] = record["kept"] and str(Path(office.journal.folder, record["kept"]))
    for each in record["folders"]:
        del each["device"], each["inode"]
    return json.dumps(record)


@pytest.mark.system
def test_what_was_mounted_over_the_folder_since_is_not_written_to(office: Office) -> None:
    if subprocess.run(["mount", "--bind", office.outside, office.outside], check=False).returncode:
        pytest.skip("nothing may be mounted here")
    subprocess.run(["umount", office.outside], check=True)
    office.restore()
    subprocess.run(["mount", "--bind", office.outside, office.folder], check=True)
    try:
        with pytest.raises(RestorationError, match="another folder now"):
            undo(office.journal, None)
    finally:
        subprocess.run(["umount", office.folder], check=True)
    undo(office.journal, None)
    assert (office.folder / "tide").read_bytes() == OLD
