import os
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.machine import ALinuxMachine, AWindowsMachine
from builders.winreg import a_winreg
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.opening import open_machine
from fundamen.machine.overlay import OverlayMachine
from fundamen.machine.programs import find_program
from fundamen.machine.windows_host import WindowsHost
from fundamen.messages import say
from fundamen.model.errors import FundamenError, UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.trace import trace_program


def kind(machine: Machine, path: str) -> EntryKind:
    return machine.look(MachinePath(path)).kind


def test_links_are_followed_inside_the_root_and_never_out_of_it(linux: ALinuxMachine, tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("the host's own")
    linux.file("/usr/lib/libx.so.1.2", b"x").link("/lib", "/usr/lib").link("/usr/lib/libx.so.1", "libx.so.1.2")
    linux.link("/out", "../../../../../secret").link("/absolute", str(tmp_path / "secret"))
    machine = linux.opened()
    assert machine.real(MachinePath("/lib/libx.so.1")) == "/usr/lib/libx.so.1.2"
    assert machine.host_path(MachinePath("/lib/libx.so.1")) == f"{linux.root}/usr/lib/libx.so.1.2"
    assert kind(machine, "/lib/libx.so.1") is EntryKind.FILE
    assert kind(machine, "/out") is EntryKind.ABSENT
    assert kind(machine, "/absolute") is EntryKind.ABSENT
    assert kind(machine, "/../../../secret") is EntryKind.ABSENT


def test_a_loop_of_links_is_reported_and_never_followed_for_ever(linux: ALinuxMachine) -> None:
    machine = linux.link("/a", "b").link("/b", "/a").opened()
    entry = machine.look(MachinePath("/a/libx.so"))
    assert (entry.kind, entry.why) == (EntryKind.BLOCKED, say("machine.its-links-lead-round-in-a"))


@given(st.lists(st.tuples(st.sampled_from("abcd"), st.lists(st.sampled_from(["a", "b", "..", ".", ""]), max_size=5))))
def test_no_tree_of_links_leads_out_of_its_root(
    tmp_path_factory: pytest.TempPathFactory, links: list[tuple[str, list[str]]]
) -> None:
    root = tmp_path_factory.mktemp("root")
    (root / "usr" / "lib").mkdir(parents=True)
    for name, parts in links:
        if not (root / name).is_symlink():
            (root / name).symlink_to("/" * (len(parts) % 2) + "/".join(parts) or ".")
    machine = open_machine(str(root))
    for name, parts in links:
        try:
            found = machine.host_path(MachinePath("/" + "/".join([name, *parts])))
        except UnreadableError:
            continue
        assert os.path.realpath(found) == found.rstrip("/")
        assert (found + "/").startswith(f"{root}/")


def test_windows_names_are_compared_without_case_and_drives_are_folders(
    windows: AWindowsMachine, tmp_path: Path
) -> None:
    windows.file("C:\\Program Files\\Tidebook\\Tide.DLL", b"tide")
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "Data.dll").write_bytes(b"d")
    machine = open_machine(str(windows.root), drives={"d:": str(tmp_path / "other")})
    assert machine.real(MachinePath("c:\\PROGRAM FILES\\tidebook\\tide.dll")) == "C:\\Program Files\\Tidebook\\Tide.DLL"
    assert kind(machine, "D:\\DATA.DLL") is EntryKind.FILE
    assert machine.look(MachinePath("E:\\x.dll")).why == say("machine.no-folder-is-given-for-drive", letter="E")
    assert machine.absolute_path(str(tmp_path / "other" / "Data.dll")) == "D:\\Data.dll"
    assert machine.absolute_path("\\windows") == "C:\\windows"


def test_a_link_out_of_a_windows_volume_blocks_the_path(windows: AWindowsMachine, tmp_path: Path) -> None:
    (tmp_path / "secret.dll").write_bytes(b"x")
    windows.link("Windows/System32/out.dll", str(tmp_path / "secret.dll"))
    assert windows.opened().look(MachinePath("C:\\Windows\\System32\\out.dll")).kind is EntryKind.BLOCKED


def test_a_prefix_is_opened_by_its_system_drive(tmp_path: Path) -> None:
    (tmp_path / "drive_c" / "windows" / "system32").mkdir(parents=True)
    machine = open_machine(str(tmp_path))
    assert machine.host_path(MachinePath("C:\\windows")) == f"{tmp_path}/drive_c/windows"


def test_an_overlay_shows_changes_that_were_never_made(linux: ALinuxMachine, tmp_path: Path) -> None:
    new = tmp_path / "new"
    new.write_bytes(b"new bytes")
    base = linux.file("/usr/lib/libx.so", b"old").link("/lib", "usr/lib").opened()
    overlay = OverlayMachine(
        base, {MachinePath("/usr/lib/libx.so"): HostPath(str(new)), MachinePath("/opt/a/y"): HostPath(str(new))}
    )
    for path in ("/usr/lib/libx.so", "/lib/libx.so", "/opt/a/y"):
        with overlay.open(MachinePath(path)) as source:
            assert source.read_at(0, 100) == b"new bytes"
    assert kind(overlay, "/opt/a") is EntryKind.FOLDER
    assert overlay.names(MachinePath("/opt/a")) == ("y",)
    assert kind(base, "/opt/a/y") is EntryKind.ABSENT
    assert (linux.root / "usr/lib/libx.so").read_bytes() == b"old"


def test_an_overlay_shows_folders_and_links_that_were_never_made(linux: ALinuxMachine) -> None:
    base = linux.file("/usr/lib/libx.so", b"old").opened()
    links = {"/var/lock": "/run/lock", "/opt/lib": "/usr/lib", "/opt/dead": "/nowhere", "/a": "/b", "/b": "/a"}
    overlay = OverlayMachine(
        base, {}, {MachinePath(path): MachinePath(to) for path, to in links.items()}, (), [MachinePath("/run/lock")]
    )
    kinds = [kind(overlay, path) for path in ("/run/lock", "/run", "/var/lock", "/opt/lib", "/opt/dead", "/a")]
    assert kinds == [EntryKind.FOLDER] * 4 + [EntryKind.ABSENT] * 2
    assert overlay.names(MachinePath("/opt")) == ("dead", "lib")
    assert overlay.real(MachinePath("/var/lock")) == "/run/lock"


def test_an_overlay_leads_through_links_to_folders_that_were_never_made(linux: ALinuxMachine, tmp_path: Path) -> None:
    (tmp_path / "new").write_bytes(b"new")
    linux.file("/usr/lib/libx.so", b"old").file("/opt/theirs", b"theirs").link("/usr/bin/x", "/lib/libx.so")
    base = linux.link("/usr/bin/y", "/opt/theirs").opened()
    overlay = OverlayMachine(
        base,
        {MachinePath("/usr/bin/y"): HostPath(str(tmp_path / "new"))},
        {MachinePath("/lib"): MachinePath("/usr/lib"), MachinePath("/loop"): MachinePath("/loop/on")},
    )
    found = {}
    for path in ("/lib/libx.so", "/usr/bin/x", "/usr/bin/y", "/opt/theirs"):
        with overlay.open(MachinePath(path)) as source:
            found[path] = source.read_at(0, 9)
    assert found == {"/lib/libx.so": b"old", "/usr/bin/x": b"old", "/usr/bin/y": b"new", "/opt/theirs": b"theirs"}
    assert (kind(base, "/usr/bin/x"), kind(overlay, "/loop/on")) == (EntryKind.ABSENT, EntryKind.ABSENT)
    assert overlay.names(MachinePath("/lib")) == base.names(MachinePath("/usr/lib"))


@pytest.mark.parametrize(
    ("spec", "drives", "error", "said"),
    [
        ("nowhere", {}, UnreadableError, "no such folder"),
        ("file", {}, UnreadableError, "not a folder"),
        ("empty", {}, UnreadableError, "neither Windows/System32"),
        ("root", {"D": "empty"}, UsageError, "no drive letters"),
        ("volume", {"DD": "empty"}, UsageError, "one letter"),
        ("volume", {"D": "nowhere"}, UnreadableError, "not a folder"),
    ],
)
def test_what_is_no_machine_is_refused(
    tmp_path: Path, spec: str, drives: dict[str, str], error: type[FundamenError], said: str
) -> None:
    (tmp_path / "file").touch()
    for folder in ("empty", "root/usr/lib", "volume/Windows/System32"):
        (tmp_path / folder).mkdir(parents=True)
    with pytest.raises(error) as raised:
        open_machine(spec, drives={k: str(tmp_path / v) for k, v in drives.items()}, current=str(tmp_path))
    assert said in raised.value.why


def test_a_pipe_is_never_opened(linux: ALinuxMachine) -> None:
    os.mkfifo(linux.root / "pipe")
    with pytest.raises(UnreadableError, match="pipe, device or socket"), linux.opened().open(MachinePath("/pipe")):
        pytest.fail("it was opened")


def test_a_file_without_permission_is_blocked_and_says_so(linux: ALinuxMachine) -> None:
    machine = linux.file("/secret", b"x", mode=0).opened()
    was = os.geteuid()
    try:
        if was == 0:
            os.seteuid(65534)  # an account that may not read everything
        with pytest.raises(UnreadableError) as raised, machine.open(MachinePath("/secret")):
            pytest.fail("it was opened")
    finally:
        os.seteuid(was)
    assert raised.value.why == say("machine.this-account-may-not-read-it")


class AHost(WindowsHost):
    """A live Windows host whose drive C: is a folder here; the rest is as it would be there."""

    drive = ""

    def host_path(self, path: MachinePath) -> HostPath:
        return HostPath(super().host_path(path).replace("C:", self.drive).replace("\\", "/"))

    def real(self, path: MachinePath) -> MachinePath:
        return path


def test_a_live_windows_host_is_traced_by_the_same_rules(
    windows: AWindowsMachine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(sys.modules, "winreg", a_winreg({}))
    AHost.drive = str(windows.root)
    windows.program("C:\\App\\app.exe", needs=("one.dll", "two.dll")).library("C:\\App\\one.dll")
    windows.library("C:\\Tools\\two.dll")
    host = AHost({"Path": "C:\\App;C:\\Tools"}, HostPath("C:\\App"))
    program = find_program(host, "app")
    assert program == "C:\\App\\app.exe"
    assert [(c.path, c.verdict) for c in trace_program(host, program).components[1:]] == [
        ("C:\\App\\one.dll", Verdict.UNVERIFIED),
        ("C:\\Tools\\two.dll", Verdict.UNVERIFIED),
    ]
    assert host.look(MachinePath("C:\\Gone")).kind is EntryKind.ABSENT


def test_a_32_bit_python_on_a_64_bit_windows_is_not_misled(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sys, "maxsize", 2**31 - 1)
    host = WindowsHost({"PROCESSOR_ARCHITEW6432": "AMD64"}, HostPath("C:\\"))
    paths = [host.host_path(MachinePath(p)) for p in ("c:\\windows\\SYSTEM32\\x.dll", "C:\\Windows\\System32x\\x.dll")]
    assert paths == ["C:\\Windows\\Sysnative\\x.dll", "C:\\Windows\\System32x\\x.dll"]


def test_what_is_looked_for_often_in_a_folder_is_answered_as_at_first(linux: ALinuxMachine) -> None:
    linux.file("/opt/lib/libtide.so", b"x").link("/opt/lib/libebb.so", "libtide.so").link("/usr/alias", "../opt/lib")
    names = ["libtide.so", "libebb.so", *(f"lib{number}.so" for number in range(40)), "", "."]
    for folder in ("/opt/lib", "/usr/alias", "/nowhere", "/opt/lib/libtide.so"):
        at_once = [linux.opened().look(MachinePath(f"{folder}/{name}")) for name in names]
        machine = linux.opened()
        for _ in range(2):
            assert [machine.look(MachinePath(f"{folder}/{name}")) for name in names] == at_once, folder
