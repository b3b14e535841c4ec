"""A tree is compared with a recorded reference, and gets back from it just what it lacks."""

import os
import shutil
import stat
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from conftest import Fundamen
from fundamen.model.paths import HostPath
from fundamen.sources.reference import DifferenceKind, References, compare_with
from wording import says

CHARTS = {
    "base/tide.chart": b"tide 4.2\n",
    "base/reed.chart": b"reed\n",
    "extra/salt.chart": b"salt\n" * 100,
    "index": b"3\n",
}


def laid_out(folder: Path) -> Path:
    for name, data in CHARTS.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    (folder / "latest").symlink_to("base/tide.chart")
    return folder


@pytest.fixture
def clean(tmp_path: Path) -> Path:
    return laid_out(tmp_path / "clean")


@pytest.fixture
def tree(tmp_path: Path, clean: Path) -> Path:
    return Path(shutil.copytree(clean, tmp_path / "tree", symlinks=True))


@pytest.fixture
def recorded(fundamen: Fundamen, clean: Path) -> None:
    assert fundamen("references", "record", "charts", str(clean), "--leave-out", "cache/*").status == 0


def state(folder: Path) -> dict[str, tuple[bytes | str, int]]:
    found: dict[str, tuple[bytes | str, int]] = {}
    for path in sorted(folder.rglob("*")):
        content = os.readlink(path) if path.is_symlink() else path.read_bytes() if path.is_file() else b""
        found[str(path.relative_to(folder))] = content, stat.S_IMODE(path.lstat().st_mode)
    return found


def damaged(tree: Path) -> None:
    shutil.rmtree(tree / "extra")
    (tree / "base" / "tide.chart").write_bytes(b"tide 0.0\n")
    (tree / "base" / "reed.chart").chmod(0o600)
    (tree / "latest").unlink()
    (tree / "own.chart").write_bytes(b"mine")
    (tree / "cache").mkdir()
    (tree / "cache" / "x").write_bytes(b"left out")


@pytest.mark.usefixtures("recorded")
def test_what_vanished_or_differs_comes_back_and_nothing_else_is_touched(
    tree: Path, clean: Path, fundamen: Fundamen
) -> None:
    assert fundamen("references", "compare", "charts", str(tree)).status == 0
    damaged(tree)
    before = state(tree)
    [record] = fundamen("references", "compare", "charts", str(tree), "--json").records
    assert {(d["path"], d["finding"]) for d in record["differences"]} == {
        ("extra/salt.chart", "vanished"),
        ("latest", "vanished"),
        ("base/tide.chart", "differs"),
        ("base/reed.chart", "differs"),
        ("own.chart", "extra"),
    }
    ran = fundamen("references", "restore", "--yes", "charts", str(tree))
    assert (ran.status, "Nothing differs any more." in ran.out) == (0, True), ran.out + ran.err
    own = {"own.chart", "cache", "cache/x"}
    assert {path: entry for path, entry in state(tree).items() if path not in own} == state(clean)
    assert fundamen("undo").status == 0
    assert state(tree) == before


@pytest.mark.usefixtures("recorded")
def test_a_reference_that_has_itself_changed_is_reported_as_at_fault(
    tree: Path, clean: Path, fundamen: Fundamen
) -> None:
    (tree / "index").unlink()
    (tree / "base" / "tide.chart").unlink()
    (clean / "index").write_bytes(b"4\n")
    compared = fundamen("references", "compare", "charts", str(tree))
    assert "The reference itself is at fault for 1 file" in compared.out
    ran = fundamen("references", "restore", "--yes", "charts", str(tree))
    assert (ran.status, "1 file still differs" in ran.out) == (1, True), ran.out
    assert (tree / "base" / "tide.chart").exists()
    assert not (tree / "index").exists()


@pytest.mark.usefixtures("recorded")
def test_a_file_where_a_link_should_be_is_left_to_a_person(tree: Path, fundamen: Fundamen) -> None:
    (tree / "latest").unlink()
    (tree / "latest").write_bytes(b"mine")
    ran = fundamen("references", "restore", "--yes", "charts", str(tree))
    assert (ran.status, (tree / "latest").read_bytes()) == (1, b"mine")


@pytest.mark.usefixtures("tree")
@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("references", "compare", "charts", "tree"), 2, "is not known"),
        (("references", "record", "../x", "clean"), 2, "letters, digits"),
        (("references", "record", "x", "nowhere"), 3, "it is empty, or not there"),
        (("references", "restore", "charts", "tree"), 2, "is not known"),
    ],
)
def test_what_cannot_be_compared_is_reported(
    fundamen: Fundamen, words: tuple[str, ...], status: int, said: str
) -> None:
    ran = fundamen(*words)
    assert (ran.status, said in ran.err) == (status, True), ran.err


@given(
    names=st.lists(st.text("abc", min_size=1, max_size=3), min_size=1, max_size=6, unique=True),
    changes=st.lists(st.tuples(st.integers(0, 5), st.sampled_from(["gone", "other", "new"])), max_size=5),
)
def test_every_change_is_found_and_no_other(
    tmp_path_factory: pytest.TempPathFactory, names: list[str], changes: list[tuple[int, str]]
) -> None:
    from datetime import UTC, datetime  # noqa: PLC0415

    folder = tmp_path_factory.mktemp("r")
    clean, tree = folder / "clean", folder / "tree"
    clean.mkdir()
    for name in names:
        (clean / name).write_text(name)
    baseline = References(HostPath(str(folder / "home"))).record("r", HostPath(str(clean)), (), datetime.now(UTC))
    shutil.copytree(clean, tree)
    expected: dict[str, DifferenceKind] = {}
    for place, change in changes:
        name = names[place % len(names)]
        if change == "new":
            (tree / f"{name}-new").write_text("x")
            expected[f"{name}-new"] = DifferenceKind.EXTRA
        elif name not in expected:
            (tree / name).unlink() if change == "gone" else (tree / name).write_text("other")
            expected[name] = DifferenceKind.VANISHED if change == "gone" else DifferenceKind.DIFFERS
    found = compare_with(baseline, HostPath(str(tree))).differences
    assert {each.path: each.finding for each in found} == expected


def test_a_clean_machine_that_was_recorded_offers_its_files(
    linux: ALinuxMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    library = an_elf(soname="libsalt.so.4")
    other = ALinuxMachine(tmp_path / "other").file("/opt/t/lib/libsalt.so.4", library, 0o755)
    linux.program("/opt/t/bin/tidebook", needs=["libsalt.so.4"], runpath="/opt/t/lib")
    assert fundamen("references", "record", "other", str(other.root), "--as-machine").status == 0
    restoring = ("restore", "--yes", "-m", str(linux.root), "/opt/t/bin/tidebook")
    (other.root / "opt/t/lib/libsalt.so.4").write_bytes(library + b"changed since")
    assert fundamen(*restoring).status == 1
    (other.root / "opt/t/lib/libsalt.so.4").write_bytes(library)
    ran = fundamen(*restoring)
    assert (ran.status, says(ran.out, "sources.the-baseline-of-recorded-on", name="other")) == (0, True), ran.out
    restored = linux.root / "opt/t/lib/libsalt.so.4"
    assert (restored.read_bytes(), stat.S_IMODE(restored.stat().st_mode)) == (library, 0o755)
