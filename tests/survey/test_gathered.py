"""The script in plain shell gathers a capture that answers as the machine does."""

import gzip
import io
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.compiled import compiled
from builders.texts import GATHERED
from conftest import Fundamen
from fundamen.formats.gathered import read_gathered
from fundamen.machine.gathered import GatheredMachine, gathering_script
from fundamen.machine.machine import EntryKind
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.survey.walking import Walk
from wording import says

OPT = b"drwxr-xr-x 1 0 0 9 Nov 28 09:00 /opt\n"

WINDOWS = (
    b"fundamen-gathered 1\nplatform windows\nhost quay\nprogram C:\\tide\\tide.exe\nenvironment Path=C:\\Windows\n"
    b"names C:\\\nd 0 tide\nd 0 Windows\nl 0 short -> C:\\tide\n.\nnames C:\\tide\nf 4 Tide.exe\nd 0 deep\n.\n"
    b"file 4 C:\\tide\\Tide.exe\nsea\ntree HKLM\\Software\\Tide\nkey HKLM\\Software\\Tide\nvalue text dGlkZQ== \n"
    b"value number 7 level\nvalue texts YQBi several\nkey HKLM\\Software\\Tide\\Ebb\nvalue bytes - none\nend\n"
)


@pytest.fixture(scope="module")
def gathered() -> Iterator[tuple[Path, Path]]:
    """A program of which one library is gone, one is for no one, and what was gathered of it."""
    with tempfile.TemporaryDirectory() as folder:  # on the disk: nothing below /dev is gathered
        yield gathered_in(Path(folder))


def gathered_in(folder: Path) -> tuple[Path, Path]:
    lib = folder / "lib"
    for name, number in (("tide", 2), ("ebb", 1)):
        words = ("-shared", "-fPIC", f"-Wl,-soname,lib{name}.so.{number}")
        compiled(lib / f"lib{name}.so.{number}", f"int {name}(void) {{ return 1; }}", *words)
    program = compiled(
        folder / "bin/berth", "int tide(void); int ebb(void); int main(void) { return tide() + ebb(); }",
        str(lib / "libtide.so.2"), str(lib / "libebb.so.1"), "-Wl,-rpath,$ORIGIN/../lib",
    )  # fmt: skip
    (lib / "libtide.so.2").unlink()
    script = folder / "gather.sh"
    script.write_text(gathering_script("shell"))
    target = folder / "berth.gathered"
    with target.open("wb") as file:
        path = {"PATH": "/usr/bin:/bin"}  # each folder before them costs a look for each of its thousand commands
        subprocess.run(["sh", script, program, folder / "none"], stdout=file, env=path, check=True)
    return program, target


def test_the_script_is_what_the_command_prints(fundamen: Fundamen) -> None:
    assert fundamen("capture", "--script").out == gathering_script("shell")


@pytest.mark.system  # it goes through the host's own folders, and takes longer than a unit test may
@pytest.mark.xdist_group("gathered")  # it is gathered once
@pytest.mark.parametrize("is_packed", [False, True], ids=["as it is", "packed"])
def test_a_capture_of_it_answers_as_the_machine_does(
    fundamen: Fundamen, gathered: tuple[Path, Path], tmp_path: Path, *, is_packed: bool
) -> None:
    program, target = gathered
    source = tmp_path / "it"
    source.write_bytes(gzip.compress(target.read_bytes(), 1) if is_packed else target.read_bytes())
    assert fundamen("capture", "it.capture", "--from", source, "--yes").status == 0
    [there] = fundamen("trace", "-m", "it.capture", program, "--json").records
    [here] = fundamen("trace", program, "--json").records
    assert there["components"] == here["components"]
    assert [each["name"] for each in there["components"] if each["fault"]] == ["libtide.so.2"]
    other = fundamen("trace", "-m", "it.capture", "/usr/bin/env", "--json")
    assert (other.status, "lacks" in str(other.records)) == (3, True)


def test_of_windows_names_are_alike_in_any_case_links_followed_and_what_was_not_listed_is_unknown() -> None:
    found = read_gathered(io.BytesIO(WINDOWS), "windows")
    machine = GatheredMachine(found, HostPath("/"))
    found.content.close()
    kinds = {
        "c:\\SHORT\\tide.EXE": EntryKind.FILE,
        "C:\\tide\\ebb.dll": EntryKind.ABSENT,
        "C:\\nowhere\\ebb.dll": EntryKind.ABSENT,
        "C:\\Windows\\ebb.dll": EntryKind.BLOCKED,  # there, and not listed
        "C:\\tide\\deep\\ebb.dll": EntryKind.BLOCKED,
        "D:\\ebb.dll": EntryKind.BLOCKED,
        "C:\\": EntryKind.FOLDER,
    }
    assert {path: machine.look(MachinePath(path)).kind for path in kinds} == kinds
    assert machine.real(MachinePath("c:\\short\\TIDE.exe")) == "C:\\tide\\Tide.exe"
    assert (machine.names(MachinePath("C:\\SHORT")), machine.environment) == (
        ("Tide.exe", "deep"),
        {"PATH": "C:\\Windows"},
    )
    assert machine.registry.values("hklm\\software\\tide") == {"": "tide", "level": 7, "several": ("a", "b")}
    assert machine.registry.subkeys("HKLM\\Software\\Tide") == ("Ebb",)
    assert [machine.registry.knows(f"HKLM\\Software\\{key}") for key in ("Tide\\Flow", "Tideland")] == [True, False]


def test_what_was_gathered_is_gone_through_as_the_machine_would_be() -> None:
    more = GATHERED.replace(
        b"end\n", b"file 21 /opt/flow\n\x7fELF0123456789abcdef\nfile 12 /opt/run\n#!/bin/sh\n\n\nend\n"
    )
    listed = b"-rwxr-xr-x 1 0 0 9 Nov 28 09:00 /opt/flow\n-rwx------ 1 0 0 9 Nov 28 09:00 /opt/run\n"
    listed += OPT + b"drwxr-xr-x 1 0 0 9 Nov 28 09:00 /opt/shut\n"
    listed += b"lrwxrwxrwx 1 0 0 4 Nov 28 2025 /opt/dead -> gone\n"
    data = more.replace(b"whole /opt\n", b"whole /opt\nbarred /opt/shut\n").replace(b"\n.\n", b"\n" + listed + b".\n")
    walk = Walk(
        machine := GatheredMachine(found := read_gathered(io.BytesIO(data), "more"), HostPath("/")),
        [MachinePath("/opt")],
    )
    assert (list(walk), machine.is_whole) == (["/opt/flow"], False)
    assert walk.walked.scripts == {"#!/bin/sh": ("/opt/run",)}
    assert (walk.walked.broken_links, walk.walked.files) == (("/opt/dead",), 3)
    assert walk.walked.barred == ("/opt/shut: Permission denied",)
    found.content.close()


def test_the_shell_leaves_nothing_behind_and_refuses_what_is_not_there(tmp_path: Path) -> None:
    own = tmp_path / "tmp"
    own.mkdir()
    words = ["sh", "-s", "--", str(tmp_path / "none")]
    ran = subprocess.run(words, input=gathering_script("shell").encode(), capture_output=True, check=False, env={
        "PATH": "/usr/bin:/bin", "TMPDIR": str(own),
    })  # fmt: skip
    assert (ran.returncode, b"is no file" in ran.stderr, list(own.iterdir())) == (3, True, [])


def test_kinds_rights_links_and_devices_are_read_as_ls_tells_them() -> None:
    found = read_gathered(io.BytesIO(GATHERED), "small")
    found.content.close()
    assert found.listed["/opt/tide"].mode == 0o104755
    assert (found.listed["/opt/ebb"].target, found.listed["/opt/null"].size) == ("tide", 0)
    assert (found.files, set(found.refused)) == ({"/opt/tide": (0, 4)}, {"/opt/own"})


@given(
    st.sampled_from((GATHERED, WINDOWS)), st.integers(0, len(GATHERED) - 1), st.binary(max_size=3), st.integers(30, 400)
)
def test_whatever_is_changed_or_cut_it_is_read_or_refused(whole: bytes, at: int, instead: bytes, end: int) -> None:
    changed = whole[:at] + instead + whole[at + 1 :]
    for data in (changed, gzip.compress(changed)[:end]):
        with suppress(DamagedFileError):
            found = read_gathered(io.BytesIO(data), "hostile")
            with found.content:
                machine = GatheredMachine(found, HostPath("/"))
                machine.look(MachinePath(next(iter(found.programs), "/")))
                with suppress(UnreadableError):
                    list(Walk(machine, [MachinePath("C:\\tide" if whole is WINDOWS else "/opt")]))
    with pytest.raises(DamagedFileError):
        read_gathered(io.BytesIO(whole[:at]), "cut")


def test_of_programs_no_whole_machine_is_made(fundamen: Fundamen, tmp_path: Path) -> None:
    (tmp_path / "small").write_bytes(GATHERED)
    ran = fundamen("capture", "small.capture", "--from", tmp_path / "small", "--all", "--yes")
    assert (ran.status, says(ran.err, "cli.leave-all-out-or-have-the")) == (2, True)
    (tmp_path / "all").write_bytes(
        GATHERED.replace(b"program /opt/tide\n", b"all\n").replace(b"\n.\n", b"\n" + OPT + b".\n")
    )
    assert fundamen("capture", "all.capture", "--from", tmp_path / "all", "--yes").status == 0
    [found] = fundamen("survey", "--json", "-m", "all.capture").records
    assert (found["files"], found["broken_links"], found["programs"]) == (1, [], 0)


def test_what_unpacks_to_far_more_than_any_machines_files_is_refused(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("fundamen.formats.gathered._ANYWAY", 1 << 20)
    zeros = GATHERED.replace(b"file 4 /opt/tide\nsea\n", b"file 8000000 /opt/tide\n" + bytes(8_000_000))
    read_gathered(io.BytesIO(zeros), "as it lies there").content.close()
    with pytest.raises(DamagedFileError, match="100 times its size"):
        read_gathered(io.BytesIO(gzip.compress(zeros)), "packed")


def test_hostile_sizes_and_newer_forms_are_reported(fundamen: Fundamen, tmp_path: Path) -> None:
    newer, larger, leading_out = b"gathered 2", b"file 99999999999 /", b"file 4 ../../"
    changes = ((b"gathered 1", newer), (b"file 4 /", larger), (b"file 4 /", leading_out), (b"\nend\n", b"\n"))
    for number, (old, new) in enumerate(changes):
        source = tmp_path / str(number)
        source.write_bytes(GATHERED.replace(old, new))
        ran = fundamen("capture", f"{number}.capture", "--from", source, "--yes")
        assert (ran.status, "Why:" in ran.err, "Traceback" in ran.err) == (3, True, False)
    assert not list(tmp_path.glob("*.capture"))
