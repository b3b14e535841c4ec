"""A restoration is either as it was or as it should be, whatever stops it, and can be undone to the byte."""

import builtins
import errno
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import Any
from unittest.mock import ANY

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.pe import a_pe
from builders.source import NOW, ASource
from builders.tree import Tree, tree_of, without_times
from conftest import Fundamen
from fundamen.evidence.catalogue import CatalogueAuthority
from fundamen.execution import making
from fundamen.execution.clean_up import choose_for_good, find_kept, let_stand
from fundamen.execution.home import journal_of
from fundamen.execution.journal import Journal, RestorationState
from fundamen.messages import say
from fundamen.model.errors import RestorationError, UnfinishedError, UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing import replacing
from fundamen.placing.calls import new_file
from fundamen.restore.rehearsal import Rehearsal, rehearse
from fundamen.restore.restoration import Restoration, Traces, go_on, perform, take_back
from wording import says

PROGRAM = MachinePath("/opt/app/bin/app")
FILES = {f"lib{letter}.so": an_elf(soname=f"lib{letter}.so", padding=64 * n) for n, letter in enumerate("abcd")}
MISSING, OTHER, CUT, SOUND = (f"/opt/app/lib/lib{letter}.so" for letter in "abcd")


class Case:
    """The machine of the first journey: one library missing, one for another architecture, one cut, one sound."""

    def __init__(self, linux: ALinuxMachine, source: ASource, home: Path) -> None:
        linux.program(PROGRAM, needs=tuple(FILES), runpath="$ORIGIN/../lib")
        linux.library(OTHER, "x86").file(CUT, FILES["libc.so"][:150], mode=0o604).file(SOUND, FILES["libd.so"])
        for path in (linux.root / "opt").rglob("*"):
            os.utime(path, ns=(10**18 + 1, 10**18 + 2))
        with suppress(OSError):  # where this file system has none
            os.setxattr(linux.root / CUT[1:], "user.origin", b"kept")
        self.linux, self.source = linux, source.published(FILES)
        self.catalogue = source.trusted()
        self.machine = linux.opened()
        self.journal = journal_of(self.machine, HostPath(str(home)))

    def rehearsed(self, program: MachinePath = PROGRAM) -> Rehearsal:
        self.machine = self.machine.afresh()
        authorities = [CatalogueAuthority("it", self.catalogue.packages_with)]
        return rehearse(self.machine, program, [self.catalogue], authorities, self.source.store.fetch)

    def restored(self) -> Restoration[Traces]:
        authorities = [CatalogueAuthority("it", self.catalogue.packages_with)]
        return perform(self.machine, self.rehearsed().prepare(authorities), self.journal, NOW)

    def undone(self) -> None:
        take_back(self.machine, self.journal, None)

    def tree(self) -> Tree:
        """Everything on the machine: content, mode, owner, times and attributes of every file and folder."""
        return tree_of(self.linux.root)


@pytest.fixture
def case(linux: ALinuxMachine, tmp_path: Path, home: Path) -> Case:
    return Case(linux, ASource(tmp_path, home), home)


def test_a_rehearsal_changes_nothing_and_shows_what_would_come_of_it(case: Case) -> None:
    before = case.tree()
    rehearsal = case.rehearsed()
    assert [(step.path, step.because) for step in rehearsal.plan.placed] == [
        (MISSING, "missing"),
        (OTHER, "for x86, not x86_64"),
        (CUT, "corrupt"),
    ]
    assert rehearsal.plan.untouched == (SOUND,)
    assert (len(rehearsal.before.faults), len(rehearsal.after.faults)) == (3, 0)
    assert case.tree() == before
    assert case.journal.entries() == ()


def test_a_restoration_makes_the_program_sound_and_its_undo_gives_back_every_byte_mode_and_time(case: Case) -> None:
    before = case.tree()
    restoration = case.restored()
    assert restoration.proof is not None
    assert (restoration.proof.faults, restoration.remaining) == ((), 0)
    after = case.tree()
    assert {name: after[f"opt/app/lib/{name}"][0] for name in FILES} == FILES
    assert after["opt/app/lib/libc.so"][1:4] == before["opt/app/lib/libc.so"][1:4]
    assert after[SOUND[1:]] == before[SOUND[1:]]
    case.undone()
    assert case.tree() == before
    assert [entry.state for entry in case.journal.entries()] == [RestorationState.UNDONE]


def test_what_a_missing_library_needs_in_turn_is_found_by_the_rehearsal(
    linux: ALinuxMachine, tmp_path: Path, home: Path
) -> None:
    case = Case(linux, ASource(tmp_path, home), home)
    linux.program("/opt/deep/bin/app", needs=("libtop.so",), runpath="$ORIGIN")
    case.source.published(
        {"libtop.so": an_elf(soname="libtop.so", needs=("liblow.so",), runpath="$ORIGIN")}, "2", "{program}"
    )
    case.source.published({"liblow.so": an_elf(soname="liblow.so")}, "3", "{program}", package="Breakwater")
    case.catalogue = case.source.store.refresh(case.catalogue.source)
    rehearsal = case.rehearsed(MachinePath("/opt/deep/bin/app"))
    assert [step.path for step in rehearsal.plan.placed] == ["/opt/deep/bin/libtop.so", "/opt/deep/bin/liblow.so"]
    assert rehearsal.after.faults == ()


def test_a_bad_copy_in_front_of_the_packages_place_is_set_aside_and_the_right_one_found(case: Case) -> None:
    case.linux.program("/opt/app/bin/app", needs=("libd.so",), runpath="/opt/front:$ORIGIN/../lib")
    case.linux.file("/opt/front/libd.so", b"no library")
    rehearsal = case.rehearsed()
    [move] = rehearsal.plan.moved
    assert (move.path, rehearsal.after.faults) == ("/opt/front/libd.so", ())
    assert case.restored().remaining == 0
    assert (case.linux.root / "opt/front/libd.so.aside-1").read_bytes() == b"no library"
    case.undone()
    assert (case.linux.root / "opt/front/libd.so").read_bytes() == b"no library"


def test_a_bad_copy_at_the_only_place_where_the_loader_looks_is_replaced_where_it_lies(case: Case) -> None:
    case.linux.program("/opt/app/bin/app", needs=("liba.so",), runpath="/opt/front")
    case.linux.file("/opt/front/liba.so", b"no library")
    rehearsal = case.rehearsed()
    assert "/opt/front/liba.so" in [step.path for step in rehearsal.plan.placed]
    assert (rehearsal.plan.moved, rehearsal.after.faults) == ((), ())


def test_several_programs_are_put_right_by_one_plan_in_the_same_version_and_proven_one_by_one(
    linux: ALinuxMachine, tmp_path: Path, home: Path, fundamen: Fundamen
) -> None:
    source = ASource(tmp_path, home)
    for version in ("1.0", "2.0"):
        files = {name: an_elf(soname=name, padding=16 * int(version[0])) for name in ("liba.so", "libb.so")}
        source.published(files, version, "{root}/usr/lib")
    linux.file("/usr/lib/libb.so", an_elf(soname="libb.so", padding=16))  # that of 1.0
    linux.program("/opt/one/app", needs=("liba.so",)).program("/opt/two/tides", needs=("liba.so", "libb.so"))
    source.trusted()
    words = ("-m", str(linux.root), "/opt/one/app", "/opt/two/tides")
    ran = fundamen("restore", "--yes", *words)
    assert (ran.status, "app and tides then have all that they need" in ran.out) == (0, True), ran.out + ran.err
    assert (linux.root / "usr/lib/liba.so").read_bytes() == an_elf(soname="liba.so", padding=16)
    assert fundamen("restore", "--json", *words).records[0]["state"] == "not needed"
    ran = fundamen("restore", "--yes", "--pin", "Saltgrass==2.0", *words)
    assert (ran.status, "--because" in ran.err) == (2, True)
    ran = fundamen("restore", "--yes", "--pin", "Saltgrass==2.0", "--because", "1.0 draws no charts", *words)
    assert ran.status == 0, ran.out + ran.err
    assert (linux.root / "usr/lib/libb.so").read_bytes() == an_elf(soname="libb.so", padding=32)
    assert "1.0 draws no charts" in fundamen("history", "-m", str(linux.root)).out
    ran = fundamen("restore", "--yes", "--pin", "Saltgrass==3.0", "--because", "it is new", *words)
    assert (ran.status, says(ran.out, "sources.its-version-was-not-asked-for")) == (1, True), ran.out


def test_what_programs_share_is_brought_in_both_widths_where_programs_of_both_are_there(
    windows: AWindowsMachine, tmp_path: Path, home: Path
) -> None:
    source = ASource(tmp_path, home)
    for width in ("x86", "x86_64"):
        source.published({"x.dll": a_pe(width, name="x.dll")}, place="{system}")
    windows.program("C:\\App\\app.exe", "x86_64", needs=("x.dll",))
    program, catalogue = MachinePath("C:\\App\\app.exe"), source.trusted()
    assert len(rehearse(windows.opened(), program, [catalogue], [], source.store.fetch).plan.steps) == 1
    windows.program("C:\\Program Files (x86)\\Tides\\tides.exe", "x86")
    rehearsal = rehearse(windows.opened(), program, [catalogue], [], source.store.fetch)
    assert {step.path for step in rehearsal.plan.steps} == {
        "C:\\Windows\\System32\\x.dll",
        "C:\\Windows\\SysWOW64\\x.dll",
    }
    assert rehearsal.plan.other_width == "C:\\Program Files (x86)\\Tides\\tides.exe"


def test_a_fault_that_no_source_can_mend_is_said_and_the_others_are_mended(case: Case) -> None:
    case.linux.program(PROGRAM, needs=("liba.so", "libelse.so"), runpath="$ORIGIN/../lib")
    rehearsal = case.rehearsed()
    assert [(unmet.name, unmet.why) for unmet in rehearsal.plan.unmet] == [
        ("libelse.so", say("restore.no-trusted-source-has-it"))
    ]
    assert [fault.name for fault in rehearsal.after.faults] == ["libelse.so"]
    assert case.restored().remaining == 1


def test_what_the_rehearsal_does_not_prove_is_not_offered(linux: ALinuxMachine, tmp_path: Path, home: Path) -> None:
    source = ASource(tmp_path, home).published({"liba.so": FILES["liba.so"]}, place="{program}/where-no-loader-looks")
    linux.program(PROGRAM, needs=("liba.so",), runpath="$ORIGIN/../lib")
    rehearsal = rehearse(linux.opened(), PROGRAM, [source.trusted()], [], source.store.fetch)
    assert rehearsal.plan.steps == ()
    assert rehearsal.plan.unmet[0].why == say("restore.what-the-sources-have-for-it")
    assert rehearsal.after.faults == rehearsal.before.faults


def test_on_windows_each_width_goes_where_its_programs_look(
    windows: AWindowsMachine, tmp_path: Path, home: Path
) -> None:
    source = ASource(tmp_path, home)
    for width in ("x86", "x86_64"):
        source.published({"x.dll": a_pe(width, name="x.dll")}, place="{system}")
        windows.program(f"C:\\{width}\\app.exe", width, needs=("X.DLL",))
    windows.library("C:\\Windows\\System32\\x.dll", "x86")
    catalogue = source.trusted()
    placed = {}
    for width in ("x86", "x86_64"):
        program = MachinePath(f"C:\\{width}\\app.exe")
        rehearsal = rehearse(windows.opened(), program, [catalogue], [], source.store.fetch)
        assert rehearsal.after.faults == ()
        placed[width] = [(step.path, step.because) for step in rehearsal.plan.placed]
    assert placed == {
        "x86": [("C:\\Windows\\SysWOW64\\x.dll", "missing")],
        "x86_64": [("C:\\Windows\\System32\\x.dll", "for x86, not x86_64")],
    }


class CutError(BaseException):
    """As sudden as a power cut: no code of ours catches it."""


_DOORS = (
    "rename",
    "fsync",
    "chmod",
    "chown",
    "utime",
    "mkdir",
    "unlink",
    "setxattr",
    "rmdir",
    "makedirs",
    "link",
    "symlink",
    "fchmod",
    "fchown",
    "ftruncate",
)


@contextmanager
def _stopped_at(call: int, error: Callable[[], BaseException], once: bool) -> Iterator[list[str]]:  # noqa: FBT001
    """Make the n-th call through which the machine or our own state is changed fail; lists the calls that were made."""
    calls: list[str] = []

    def door(original: Callable[..., Any], only: Callable[..., bool] = lambda *_: True) -> Callable[..., Any]:
        def passed(*arguments: Any, **options: Any) -> Any:
            if only(*arguments):
                calls.append(original.__name__)
                if len(calls) == call or (len(calls) > call > 0 and not once):
                    raise error()
            return original(*arguments, **options)

        return passed

    with pytest.MonkeyPatch.context() as patch:
        for name in _DOORS:
            patch.setattr(os, name, door(getattr(os, name)))
        for name in ("next_number", "begin", "mark", "write_steps"):
            patch.setattr(Journal, name, door(getattr(Journal, name)))
        patch.setattr(builtins, "open", door(open, lambda _path, mode="r", *_: "x" in mode))
        patch.setattr(replacing, "new_file", door(new_file))
        yield calls


def _count(case: Case) -> int:
    """How many calls a restoration makes, once the journal is there and all that is fetched is available."""
    case.restored()
    case.undone()
    with _stopped_at(0, CutError, once=True) as calls:
        case.restored()
    case.undone()
    return len(calls)


def test_cut_off_at_any_call_each_file_is_old_or_new_and_undo_gives_back_all(case: Case) -> None:
    before = case.tree()
    total = _count(case)
    assert total > 25
    for call in range(1, total + 1):
        with pytest.raises(CutError), _stopped_at(call, CutError, once=False):
            case.restored()
        for name, data in FILES.items():
            found = case.tree().get(f"opt/app/lib/{name}", (None,))[0]
            assert found in (data, before.get(f"opt/app/lib/{name}", (None,))[0]), f"{name} is torn at call {call}"
        if case.journal.cut_off():
            with pytest.raises(UnfinishedError, match="interrupted"):
                case.restored()
            case.undone()
        elif any(entry.state is RestorationState.DONE for entry in case.journal.entries()):
            case.undone()
        assert case.tree() == before, f"cut at call {call}"


@pytest.mark.parametrize("code", [errno.ENOSPC, errno.EACCES, errno.EIO])
def test_when_a_call_fails_everything_is_undone_and_said(case: Case, code: int) -> None:
    before, answer = case.tree(), list[str]()
    for call in range(1, _count(case) + 1):
        try:
            with _stopped_at(call, lambda: OSError(code, os.strerror(code), "/a/file"), once=True):
                case.restored()
            case.undone()  # the failing call did not matter
        except RestorationError as error:
            answer.append(error.why)
        assert case.tree() == before, f"failed at call {call}"
        assert case.journal.cut_off() is None
    assert len(answer) > 20
    assert all(os.strerror(code) in why for why in answer)


def test_an_undo_that_is_cut_off_can_be_done_again(case: Case) -> None:
    before = case.tree()
    case.restored()
    with _stopped_at(0, CutError, once=True) as calls:
        case.undone()
    for call in range(1, len(calls) + 1):
        case.restored()
        try:
            with _stopped_at(call, CutError, once=False):
                case.undone()
        except CutError:
            if any(e.state in {RestorationState.UNDOING, RestorationState.DONE} for e in case.journal.entries()):
                case.undone()
        assert case.tree() == before, f"cut at call {call}"


def test_cut_off_at_any_call_it_is_gone_on_with_to_the_same_end(case: Case) -> None:
    before = case.tree()
    total = _count(case)
    case.restored()
    after = case.tree()
    case.undone()
    resumed = 0
    for call in range(1, total + 1):
        with pytest.raises(CutError), _stopped_at(call, CutError, once=False):
            case.restored()
        if case.journal.cut_off():
            go_on(case.machine, case.journal, lambda _path: None, lambda: False)
            resumed += 1
            assert without_times(case.tree()) == without_times(after), f"cut at call {call}"
            assert [entry.state for entry in case.journal.entries()][-1] is RestorationState.DONE
        if case.tree() != before:
            case.undone()
        assert case.tree() == before, f"cut at call {call}"
    assert resumed > 8


def reached(asked: list[MachinePath], count: int) -> bool:
    return len(asked) == count


def test_asked_to_stop_it_finishes_the_step_and_can_be_gone_on_with_or_undone(case: Case) -> None:
    before, asked = case.tree(), list[MachinePath]()
    authorities = [CatalogueAuthority("it", case.catalogue.packages_with)]
    case.restored()
    case.undone()
    work = case.rehearsed().work
    for stop_after in range(3):
        asked.clear()
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(making, "_MOST_STEPS", 1)
            asked_to = partial(reached, asked, stop_after)
            prepared = case.rehearsed().prepare(authorities)
            with pytest.raises(UnfinishedError, match="was stopped"):
                perform(case.machine, prepared, case.journal, NOW, asked.append, asked_to)
        assert asked == [step.path for step in work.steps[:stop_after]]
        with pytest.raises(UnfinishedError, match="is not finished"):
            case.restored()
        go_on(case.machine, case.journal, asked.append, lambda: False)
        assert asked == [step.path for step in work.steps]
        case.undone()
        assert case.tree() == before


def test_stopped_at_once_from_the_keyboard_nothing_is_lost(case: Case) -> None:
    before = case.tree()
    with pytest.raises(UnfinishedError, match="from the keyboard"), _stopped_at(30, KeyboardInterrupt, once=True):
        case.restored()
    case.undone()
    assert case.tree() == before


def test_going_on_is_refused_where_a_file_has_changed_since(case: Case) -> None:
    with pytest.raises(CutError), _stopped_at(30, CutError, once=False):
        case.restored()
    (case.linux.root / CUT[1:]).write_bytes(b"somebody's own work")
    after = case.tree()
    with pytest.raises(RestorationError, match="has changed since"):
        go_on(case.machine, case.journal, lambda _path: None, lambda: False)
    assert case.tree() == after


def test_a_kept_original_that_was_altered_is_not_put_back(case: Case) -> None:
    case.restored()
    for kept in Path(case.journal.kept_folder(1)).iterdir():
        kept.write_bytes(b"altered")
    after = case.tree()
    with pytest.raises(RestorationError, match="was kept of it is gone or was altered"):
        case.undone()
    assert case.tree() == after


def test_originals_are_given_up_but_never_the_newest_or_unfinished_ones(case: Case) -> None:
    os.link(case.linux.root / CUT[1:], case.linux.root / "opt/other-name.so")
    damaged = (case.linux.root / CUT[1:]).read_bytes()
    for _ in range(3):
        case.restored()
        (case.linux.root / CUT[1:]).write_bytes(damaged)
    kept = find_kept(case.journal)
    assert [each.entry.number for each in kept] == [1, 2, 3]
    for older_than, most, numbers in ((1, None, []), (-1, None, [1, 2]), (1, 2 * len(damaged), [1]), (1, 0, [1, 2])):
        chosen = choose_for_good(kept, NOW, timedelta(days=older_than), most)
        assert [each.entry.number for each in chosen] == numbers
    let_stand(case.machine, case.journal, kept[:2])
    assert [each.entry.number for each in find_kept(case.journal)] == [3]
    assert [p.name for p in Path(case.journal.kept_folder(1)).parent.iterdir()] == ["3"]
    assert [p.name for p in (case.linux.root / "opt/app/lib").iterdir() if p.name.startswith(".")] == []
    with pytest.raises(UsageError, match="it is final"):
        take_back(case.machine, case.journal, 1)
    with pytest.raises(CutError), _stopped_at(12, CutError, once=False):
        case.restored()
    kept = find_kept(case.journal)
    assert [each.entry.state for each in kept] == [RestorationState.DONE, RestorationState.UNDER_WAY]
    assert choose_for_good(kept[1:], NOW, timedelta(days=-1), 0) == ()
    with pytest.raises(UnfinishedError):
        let_stand(case.machine, case.journal, kept[:1])


def test_hard_links_and_holes_come_back_as_they_were(case: Case) -> None:
    other, damaged = case.linux.root / "opt/other-name.so", case.linux.root / CUT[1:]
    os.link(damaged, other)
    hollow = case.linux.root / OTHER[1:]
    with hollow.open("r+b") as file:
        file.truncate(8 << 20)
    before, inode, blocks = case.tree(), other.stat().st_ino, hollow.stat().st_blocks
    case.restored()
    assert other.stat().st_ino != damaged.stat().st_ino
    case.undone()
    assert case.tree() == before
    assert (damaged.stat().st_ino, hollow.stat().st_blocks <= blocks + 8) == (inode, True)


@pytest.mark.parametrize("error", [KeyboardInterrupt, lambda: OSError(errno.ENOSPC, "No space left", "/a/file")])
def test_an_undo_that_is_stopped_says_that_it_is_unfinished(case: Case, error: Callable[[], BaseException]) -> None:
    before = case.tree()
    case.restored()
    with pytest.raises(UnfinishedError, match="only in part"), _stopped_at(8, error, once=True):
        case.undone()
    assert case.journal.cut_off() is not None
    case.undone()
    assert case.tree() == before


def test_undo_refuses_where_a_file_has_changed_since(case: Case) -> None:
    case.restored()
    (case.linux.root / MISSING[1:]).write_bytes(b"somebody's own work")
    after = case.tree()
    with pytest.raises(RestorationError, match="has changed since"):
        case.undone()
    assert case.tree() == after


def test_undo_names_what_it_cannot_undo(case: Case) -> None:
    with pytest.raises(UsageError, match="none to undo"):
        case.undone()
    case.restored()
    case.undone()
    with pytest.raises(UsageError, match="undone already"):
        take_back(case.machine, case.journal, 1)


def test_too_little_room_is_noticed_before_anything_is_changed(case: Case, monkeypatch: pytest.MonkeyPatch) -> None:
    before = case.tree()
    monkeypatch.setattr("shutil.disk_usage", lambda _: type("Usage", (), {"free": 1000}))
    with pytest.raises(RestorationError, match="MiB are needed"):
        case.restored()
    assert case.tree() == before


@pytest.mark.parametrize("content", [b"no database", b"SQLite format 3\0" + b"\xff" * 500])
def test_a_damaged_journal_is_said_and_nothing_is_changed(case: Case, content: bytes) -> None:
    before = case.tree()
    Path(case.journal.folder).mkdir(parents=True)
    (Path(case.journal.folder) / "journal.sqlite").write_bytes(content)
    with pytest.raises(UnreadableError, match="journal"):
        case.restored()
    assert case.tree() == before


def test_a_name_that_is_not_utf8_is_restored_and_undone(linux: ALinuxMachine, tmp_path: Path, home: Path) -> None:
    name = b"caf\xe9".decode("utf-8", "surrogateescape")
    case = Case(linux, ASource(tmp_path, home), home)
    linux.program(f"/opt/{name}/bin/app", needs=("liba.so",), runpath="$ORIGIN/../lib")
    before = case.tree()
    rehearsal = case.rehearsed(MachinePath(f"/opt/{name}/bin/app"))
    perform(case.machine, rehearsal.prepare([]), case.journal, NOW)
    assert case.journal.entries()[0].steps[0].record.path == f"/opt/{name}/lib/liba.so"
    case.undone()
    assert case.tree() == before


def test_an_outdated_library_is_replaced_by_the_whole_newer_package(
    windows: AWindowsMachine, tmp_path: Path, home: Path
) -> None:
    old = {"x.dll": a_pe(name="x.dll", exports=("Old",)), "y.dll": a_pe(name="y.dll")}
    new = {"x.dll": a_pe(name="x.dll", exports=("Old", "New")), "y.dll": a_pe(name="y.dll", exports=("More",))}
    old["z.dll"] = new["z.dll"] = a_pe(name="z.dll")
    source = ASource(tmp_path, home).published(old, "1.0", "{program}").published(new, "2.0", "{program}")
    windows.program("C:\\App\\app.exe", needs={"z.dll": (), "x.dll": ("New",), "y.dll": ()})
    for name in ("x.dll", "y.dll"):  # z.dll is missing as well, and must not be taken from the older package
        windows.file(f"C:\\App\\{name}", old[name])
    rehearsal = rehearse(windows.opened(), MachinePath("C:\\App\\app.exe"), [source.trusted()], [], source.store.fetch)
    assert [(step.path, step.package.version) for step in rehearsal.plan.placed] == [
        ("C:\\App\\x.dll", "2.0"),
        ("C:\\App\\y.dll", "2.0"),
        ("C:\\App\\z.dll", "2.0"),
    ]
    assert (len(rehearsal.before.faults), rehearsal.after.faults) == (2, ())


def test_what_another_program_would_come_to_lack_is_not_offered(
    linux: ALinuxMachine, tmp_path: Path, home: Path, fundamen: Fundamen
) -> None:
    source = ASource(tmp_path, home)
    source.published({"libx.so": an_elf(soname="libx.so"), "liby.so": an_elf(soname="liby.so", needs=("libz.so",))})
    linux.program("/opt/new/bin/app", needs=("libx.so",), runpath="/opt/shared/lib:$ORIGIN/../lib")
    linux.program("/opt/old/bin/app", needs=("liby.so",), runpath="$ORIGIN/../../new/lib")
    linux.library("/opt/new/lib/liby.so", padding=64)
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    before, on = tree_of(linux.root), ("-m", str(linux.root), "/opt/new/bin/app")
    ran = fundamen("restore", "--yes", "--also", "/opt/old/bin/app", *on)
    assert (ran.status, "this would break other programs" in ran.out) == (1, True), ran.out + ran.err
    assert fundamen("restore", "--yes", "--json", "--also", "/opt/old/bin/app", *on).records[0]["harmed"] == [
        {"program": "/opt/old/bin/app", "name": "libz.so", "reason": ANY}
    ]
    assert tree_of(linux.root) == before
    assert fundamen("restore", "--yes", *on).status == 0  # no one said that the other one counts


def test_a_program_that_was_put_right_before_is_looked_after(
    linux: ALinuxMachine, tmp_path: Path, home: Path, fundamen: Fundamen
) -> None:
    source = ASource(tmp_path, home)
    source.published({"libx.so": an_elf(soname="libx.so")}, place="{root}/opt/lib", package="Reed")
    linux.program("/opt/old", needs=("libx.so",), runpath="/opt/lib")
    linux.program("/opt/new", needs=("liby.so",), runpath="/opt/lib")
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    assert fundamen("restore", "--yes", "-m", str(linux.root), "/opt/old").status == 0
    both = {"liby.so": an_elf(soname="liby.so"), "libx.so": an_elf(soname="libx.so", needs=("libz.so",))}
    source.published(both, place="{root}/opt/lib", package="Salt")
    ran = fundamen("restore", "--yes", "-m", str(linux.root), "/opt/new")
    assert (ran.status, "/opt/old" in ran.out, "would lack" in ran.out) == (1, True, True), ran.out + ran.err


def test_the_package_that_brings_a_missing_assembly_is_found_by_its_identity(
    windows: AWindowsMachine, tmp_path: Path, home: Path
) -> None:
    identity = '<assemblyIdentity name="Salt" version="{}" processorArchitecture="amd64" publicKeyToken="11"/>'
    manifest = '<assembly xmlns="urn:schemas-microsoft-com:asm.v1">{}</assembly>'
    wanted = f"<dependency><dependentAssembly>{identity.format('4.2.0.0')}</dependentAssembly></dependency>"
    stored = "amd64_salt_11_4.2.1.0_none_0123456789abcdef"
    program = MachinePath("C:\\App\\app.exe")
    windows.program(program, needs=("salt.dll",), manifest=manifest.format(wanted))
    own = manifest.format(identity.format("4.2.1.0") + '<file name="salt.dll"/>').encode()
    source = ASource(tmp_path, home)
    source.published({"salt.dll": a_pe(name="salt.dll")}, place=f"{{root}}/Windows/WinSxS/{stored}", package="Files")
    manifests = {f"{stored}.manifest": own, "salt-notes.dll": a_pe(name="salt-notes.dll")}
    source.published(manifests, place="{root}/Windows/WinSxS/Manifests", package="Salt Runtime")
    rehearsal = rehearse(windows.opened(), program, [source.trusted()], [], source.store.fetch)
    assert {package.name for _, package in rehearsal.plan.packages} == {"Salt Runtime", "Files"}
    assert rehearsal.after.faults == ()


def test_of_a_framework_only_a_version_that_its_rule_accepts_is_offered(
    windows: AWindowsMachine, tmp_path: Path, home: Path
) -> None:
    source, program = ASource(tmp_path, home), MachinePath("C:\\App\\app.dll")
    windows.assembly(program, refers_to=(), is_library=False).library(
        "C:\\Program Files\\dotnet\\host\\fxr\\6.0.1\\hostfxr.dll"
    )
    asked = b'{"runtimeOptions": {"framework": {"name": "Microsoft.NETCore.App", "version": "6.0.0"}}}'
    windows.file("C:\\App\\app.runtimeconfig.json", asked)
    for version in ("6.0.1", "6.0.36", "7.0.0"):
        files = {name: a_pe(name=name) for name in ("hostpolicy.dll", "coreclr.dll")}
        files["Microsoft.NETCore.App.deps.json"] = b"{}"
        place = f"{{root}}/Program Files/dotnet/shared/Microsoft.NETCore.App/{version}"
        source.published(files, version, place, package="Core Framework")
    rehearsal = rehearse(windows.opened(), program, [source.trusted()], [], source.store.fetch)
    assert [package.version for _, package in rehearsal.plan.packages] == ["6.0.36"]
    assert rehearsal.after.faults == ()
