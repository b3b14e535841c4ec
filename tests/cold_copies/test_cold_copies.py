"""A cold copy of a data folder: taken, checked, brought back whole or in part, and interrupted anywhere."""

import contextlib
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.machine import ALinuxMachine, a_copy
from builders.tree import tree_of, without_times
from command import Ran
from conftest import Fundamen
from faults import Faults, Mode, Outcome
from fundamen.cold_copies.manifest import read_manifest
from fundamen.model.errors import DamagedFileError
from wording import says

FOLDER = "/var/lib/tidebook"
UNFINISHED = 6


@pytest.fixture
def data(linux: ALinuxMachine) -> Path:
    """A data folder with entries of many kinds, and one beside it that no one is to touch."""
    linux.file(f"{FOLDER}/tides/2026.db", os.urandom(300_000), mode=0o640).file(f"{FOLDER}/berths", b"5 berths\n")
    linux.file(f"{FOLDER}/a ü b/\n", b"odd name").file("/var/lib/other/kept", b"kept")
    folder = linux.root / FOLDER.lstrip("/")
    (folder / "now").symlink_to("tides/2026.db")
    (folder / "gone").symlink_to("nowhere")
    (folder / "empty").mkdir(mode=0o700)
    (folder / "tides").chmod(0o750)
    os.link(folder / "berths", folder / "berths again")
    with (folder / "sparse").open("wb") as file:
        file.truncate(1 << 20)
    os.mkfifo(folder / "pipe")
    with contextlib.suppress(OSError):  # not every file system has them
        os.setxattr(folder / "berths", "user.tide", b"\xff\0high")
    for path in (folder / "berths", folder / "tides", folder):
        os.utime(path, ns=(7 * 10**17, 10**18 + 123_456_789))
    return folder


@pytest.fixture
def copies(linux: ALinuxMachine, fundamen: Fundamen) -> "Copies":
    def run(command: str, *words: str) -> Ran:
        ran = fundamen("cold-copies", command, "-m", str(linux.root), *words)
        assert "Traceback" not in ran.err
        return ran

    return run


Copies = Fundamen


def damage(folder: Path) -> None:
    (folder / "tides/2026.db").write_bytes(b"cut")
    (folder / "a ü b/\n").unlink()
    (folder / "a ü b").rmdir()
    (folder / "now").unlink()
    (folder / "now").write_bytes(b"a file now")
    (folder / "empty").chmod(0o777)
    (folder / "berths again").chmod(0o600)
    (folder / "since").mkdir()
    (folder / "since/x").write_bytes(b"new")


def without_fifo(root: Path) -> dict[str, tuple[object, ...]]:
    return {path: state for path, state in tree_of(root).items() if not path.endswith("pipe")}


def test_a_folder_comes_back_exactly_as_it_was_and_undo_takes_that_back(
    linux: ALinuxMachine, data: Path, copies: Copies, fundamen: Fundamen
) -> None:
    before = without_fifo(data)
    taken = copies("make", FOLDER, "--because", "before the storm")
    assert (taken.status, "Cold copy 1" in taken.out, "pipe" in taken.out) == (0, True, True), taken.err
    assert without_fifo(data) == before
    damage(data)
    damaged = without_fifo(linux.root)
    ran = copies("restore", "1", "--exactly", "--yes")
    assert ran.status == 0, ran.out + ran.err
    now = without_fifo(data)
    assert {path for path in now if "aside" not in path and "fundamen-kept" not in path} == set(before)
    times = slice(0, 5)  # content, mode, owner, time of change
    links = [path for path in before if (data / path).is_symlink()]  # a link that is the same is left alone
    assert {p: now[p][times] for p in before if p not in links} == {
        p: s[times] for p, s in before.items() if p not in links
    }
    assert [now[path][0] for path in links] == [before[path][0] for path in links]
    assert (data / "berths").stat().st_ino != (data / "berths again").stat().st_ino  # each a file of its own
    assert now["since.aside-1/x"][0] == b"new"
    assert (data / "pipe").is_fifo()
    assert fundamen("undo", "-m", str(linux.root)).status == 0
    assert without_fifo(linux.root) == damaged


def test_only_the_part_that_is_named_comes_back(data: Path, copies: Copies) -> None:
    assert copies("make", FOLDER).status == 0
    damage(data)
    whole = (data / "tides/2026.db").read_bytes() != b"cut"
    ran = copies("restore", "1", "tides", "a ü b/\n", "--yes")
    assert (ran.status, whole) == (0, False), ran.out + ran.err
    assert (data / "tides/2026.db").stat().st_size == 300_000
    assert (data / "a ü b/\n").read_bytes() == b"odd name"
    assert (data / "now").read_bytes() == b"a file now"
    assert (data / "since/x").exists()
    unknown = copies("restore", "1", "../other/kept", "--yes")
    assert (unknown.status, says(unknown.err, "restore.cold-copy-has-nothing-of-that")) == (2, True)


def test_none_is_taken_while_a_program_has_a_file_of_it_open(data: Path, copies: Copies) -> None:
    holding = "import sys; f = open(sys.argv[1]); print(flush=True); sys.stdin.read()"
    words = [sys.executable, "-c", holding, str(data / "berths")]
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as holder:
        assert holder.stdout is not None
        holder.stdout.readline()
        refused = copies("make", FOLDER)
        forced = copies("make", "--force", FOLDER)
        holder.communicate()
    assert (refused.status, f"process {holder.pid}" in refused.err) == (2, True), refused.err
    assert (forced.status, copies("list", "--json").records[0]["copies"][0]["number"]) == (0, 1)


def archive_in(home: Path, number: int = 1) -> Path:
    [path] = home.glob(f"machines/*/cold-copies/{number}.tar.zst")
    return path


@pytest.mark.parametrize("at", [0.0, 0.3, 0.6, 0.999])
def test_a_copy_whose_archive_was_altered_is_found_and_brings_nothing_back(
    linux: ALinuxMachine, data: Path, copies: Copies, home: Path, at: float
) -> None:
    assert copies("make", FOLDER).status == 0
    archive = archive_in(home)
    content = bytearray(archive.read_bytes())
    content[int(at * len(content))] ^= 0x10
    archive.write_bytes(content)
    assert copies("check").status == 1
    damage(data)
    damaged = tree_of(linux.root)
    ran = copies("restore", "1", "--yes")
    if ran.status == 0:  # a bit that no file's bytes hang on, such as one of a check sum behind them
        assert (data / "tides/2026.db").stat().st_size == 300_000
    else:
        assert ran.status == 3, ran.out + ran.err
        assert tree_of(linux.root) == damaged


def test_one_that_was_cut_off_is_none_and_one_that_is_gone_is_reported(data: Path, copies: Copies, home: Path) -> None:
    assert copies("make", FOLDER).status == 0
    archive_in(home).with_name("2.tar.zst").write_bytes(b"half")
    assert len(copies("list", "--json").records[0]["copies"]) == 1
    assert copies("make", FOLDER).status == 0
    archive_in(home, 1).unlink()
    gone, whole = (each["damage"] for each in copies("check", "--json").records[0]["copies"])
    assert (gone["code"], whole) == ("cold_copies.its-archive-is-gone", None)
    assert copies("delete", "--yes", "1").status == 0
    assert [c["number"] for c in copies("list", "--json").records[0]["copies"]] == [2]
    assert data.exists()


def test_what_leads_elsewhere_by_now_is_not_written_through(linux: ALinuxMachine, data: Path, copies: Copies) -> None:
    assert copies("make", FOLDER).status == 0
    a_copy(linux.root / "elsewhere", data / "tides")
    (data / "tides/2026.db").unlink()
    (data / "tides").rmdir()
    (data / "tides").symlink_to(linux.root / "elsewhere")
    (linux.root / "elsewhere/2026.db").write_bytes(b"not ours")
    ran = copies("restore", "1", "--yes")
    assert (ran.status, says(ran.err, "restore.it-is-a-link-or-a")) == (2, True), ran.out + ran.err
    assert (linux.root / "elsewhere/2026.db").read_bytes() == b"not ours"


@given(st.lists(st.sampled_from(["", "a", "a/b", "../x", "a/../../x", "/etc", "a//b", ".", "b/c"]), max_size=4))
def test_a_list_that_names_paths_elsewhere_is_refused(paths: list[str]) -> None:
    state = {"size": 0, "sha256": "", "mode": 493, "uid": 0, "gid": 0, "accessed_ns": 0, "modified_ns": 0}
    entries = [{"path": path, "kind": "folder", "state": state} for path in paths]
    fields = {"number": 1, "machine": "it", "folder": "/x", "because": "", "left_out": [], "unquiet": []}
    fields |= {"taken_at": "2026-01-01T00:00:00Z", "archive_sha256": "0" * 64, "archive_size": 0}
    document = json.dumps({"schema": "fundamen.cold-copy/1", **fields, "entries": entries}).encode()
    try:
        copy = read_manifest(document, "1.json")
    except DamagedFileError:
        return
    assert {entry.path for entry in copy.entries} <= {"", "a", "a/b"}


@pytest.fixture
def tmp_path(in_memory: Path) -> Path:
    """A disk would only be slower."""
    return in_memory


@pytest.fixture
def faults(tmp_path: Path, home: Path) -> Faults:
    return Faults(tmp_path, home)


@pytest.mark.parametrize(
    "every", [83, pytest.param(1, marks=[pytest.mark.system, pytest.mark.long])], ids=["sampled", "in full"]
)
def test_killed_anywhere_there_is_a_whole_copy_or_none_and_the_folder_is_old_or_new(
    linux: ALinuxMachine, data: Path, faults: Faults, every: int
) -> None:
    def run(*words: str, mode: Mode = Mode.COUNT, at: int = 0) -> Outcome:
        outcome = faults.run(*words, "-m", str(linux.root), mode=mode, at=at)
        assert "Traceback" not in outcome.said
        return outcome

    take, bring_back = ("cold-copies", "make", FOLDER), ("cold-copies", "restore", "1", "--exactly", "--yes")
    (data / "pipe").unlink()
    before = tree_of(linux.root)
    assert run(*take).status == 0
    total = run(*take).calls
    assert total > 5
    for at in range(1, total + 1, max(1, every // 10)):
        run(*take, mode=Mode.KILL, at=at)
        assert tree_of(linux.root) == before
        assert run("cold-copies", "check").status == 0, f"killed at call {at}"
    damage(data)
    damaged = tree_of(linux.root)
    total = run(*bring_back).calls
    after = without_times(tree_of(linux.root))
    assert run("undo").status == 0
    for at in range(1, total + 1, every):
        run(*bring_back, mode=Mode.KILL, at=at)
        is_unfinished = run("history").status == UNFINISHED
        if is_unfinished and at // every % 2:
            resumed = run("resume")
            assert resumed.status == 0, resumed.said
            assert without_times(tree_of(linux.root)) == after, f"killed at call {at}"
        if is_unfinished or tree_of(linux.root) != damaged:
            undone = run("undo")
            assert undone.status == 0, undone.said
        assert tree_of(linux.root) == damaged, f"killed at call {at}"
