"""The built command: what it says, and the status that it ends with."""

import os
import subprocess
import sys
from pathlib import Path

import msgspec
import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import ASource
from conftest import Fundamen
from fundamen.cli.exits import BY_ERROR, Exit, exit_of
from fundamen.demo.world import BINARIES
from fundamen.model.encoding import as_message
from fundamen.model.errors import FundamenError
from fundamen.report.contracts.inspecting import InspectRecord
from fundamen.report.contracts.restoring import HistoryRecord, RestoreRecord, UndoRecord
from fundamen.report.contracts.tracing import TraceRecord
from wording import says

LIBRARY = BINARIES / "linux-x86_64" / "libsaltgrass-tide.so.4"
UNDECODABLE = b"tide\xff.so"


@pytest.fixture(params=["forked", "cold"])
def either(request: pytest.FixtureRequest, fundamen: Fundamen, cold: Fundamen) -> Fundamen:
    """The command as a forked child, and started afresh: it must be all the same."""
    return fundamen if request.param == "forked" else cold


@pytest.fixture
def bad(tmp_path: Path) -> Path:
    """A folder with every kind of input that is no sound program."""
    folder = tmp_path / "inputs"
    folder.mkdir()
    (folder / "empty").touch()
    (folder / "folder").mkdir()
    (folder / "archive.zip").write_bytes(b"PK\x03\x04" + bytes(40))
    (folder / "notes.exe").write_text("Dear caller\n")
    (folder / "cut").write_bytes(LIBRARY.read_bytes()[:700])
    (folder / "with blanks and ü.so").write_bytes(LIBRARY.read_bytes())
    Path(os.fsdecode(bytes(folder) + b"/" + UNDECODABLE)).write_bytes(LIBRARY.read_bytes())
    (folder / "round").symlink_to("round")
    os.mkfifo(folder / "pipe")
    return folder


@pytest.mark.parametrize(
    ("name", "status", "said"),
    [
        ("empty", 3, "is empty"),
        ("folder", 3, "it is a folder"),
        ("archive.zip", 1, "its directory cannot be read"),
        ("notes.exe", 3, "neither a program nor a library"),
        ("nowhere", 3, "there is no such file"),
        ("round", 3, "cannot be read"),
        ("pipe", 3, "pipe, device or socket"),
        ("cut", 1, "the file ends at 700"),
        ("with blanks and ü.so", 0, "with blanks and ü.so"),
        (os.fsdecode(UNDECODABLE), 0, "tide\\xff.so"),
    ],
)
def test_every_input_gets_its_clear_answer(fundamen: Fundamen, bad: Path, name: str, status: int, said: str) -> None:
    path = str(bad / name)
    for command in ("inspect", "trace"):
        ran = fundamen(command, path)
        expected = {0: {0, 1}}.get(status, {status}) if command == "trace" else {status}
        assert ran.status in expected, ran.err
        assert said in " ".join((ran.out + ran.err).split())  # lines are wrapped
        assert "Traceback" not in ran.err
        if status == 3:
            assert (ran.out, len(ran.err.splitlines())) == ("", 3)


def test_the_other_inputs_are_still_answered_in_the_order_given(either: Fundamen, bad: Path) -> None:
    names = [str(bad / name) for name in ("empty", "cut", "nowhere", os.fsdecode(UNDECODABLE))]
    ran = either("inspect", "--json", *names)
    records = [
        msgspec.json.decode(line, type=InspectRecord, strict=True, dec_hook=as_message) for line in ran.out.splitlines()
    ]
    assert [record.error is None for record in records] == [False, True, False, True]
    assert [record.structure for record in records] == [None, "damaged", None, "intact"]
    assert records[3].path.endswith("tide\\xff.so")
    assert ran.status == 3


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("trace",), 2, "PROGRAM is missing"),
        (("trace", "--machine", "nowhere", "x"), 3, "no such folder"),
        (("trace", "--machine", "inputs", "x"), 3, "neither Windows/System32"),
        (("trace", "--drive", "D=inputs", "x"), 2, "no drive letters"),
        (("trace", "--env", "PATH", "x"), 2, "NAME=VALUE"),
        (("sources", "trust", "inputs", "--fingerprint", "0" * 64), 3, "no signed metadata"),
        (("sources", "trust", "inputs", "--fingerprint", "12"), 2, "64 hexadecimal digits"),
        (("sources", "forget", "nobody"), 2, "no source of this name"),
        (("undo", "--machine", "linux"), 2, "none to undo"),
        (("restore", "--machine", "linux", "/notes"), 3, "neither a program nor a library"),
        (("restore", "--launch", "--machine", "linux", "/app"), 2, "cannot be launched from here"),
    ],
)
def test_wrong_usage_is_said_in_one_message(
    fundamen: Fundamen, bad: Path, linux: ALinuxMachine, words: tuple[str, ...], status: int, said: str
) -> None:
    assert bad.exists()
    linux.program("/app").file("/notes", b"Dear caller\n")
    ran = fundamen(*words)
    assert (ran.status, ran.out) == (status, "")
    assert said in ran.err
    assert "Traceback" not in ran.err


@pytest.mark.parametrize("state", ["file", "inputs/cut", "/proc/nowhere"])
def test_a_state_folder_that_cannot_be_used_is_said(fundamen: Fundamen, bad: Path, tmp_path: Path, state: str) -> None:
    assert bad.exists()
    source = ASource(tmp_path, tmp_path / "unused").published({"liba.so": an_elf(soname="liba.so")})
    trust = ("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint)
    (tmp_path / "file").touch()
    ran = fundamen(*trust, FUNDAMEN_HOME=str(tmp_path / state))
    assert (ran.status, ran.out) == (3, "")
    assert "$FUNDAMEN_HOME" in ran.err


def test_the_whole_way_from_trust_to_undo_in_json(either: Fundamen, linux: ALinuxMachine, tmp_path: Path) -> None:
    library = an_elf(soname="liba.so")
    source = ASource(tmp_path, tmp_path / "unused").published({"liba.so": library})
    linux.program("/opt/bin/app", needs=("liba.so",), runpath="$ORIGIN/../lib")
    on_linux = ("--machine", str(linux.root), "--json")

    refused = either("sources", "trust", str(source.folder), "--fingerprint", "0" * 64, "--json")
    assert (refused.status, refused.records[0]["schema"]) == (4, "fundamen.error/3")
    assert either("restore", *on_linux, "--yes", "/opt/bin/app").records[0]["state"] == "no remedy"
    trusted = either("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint, "--json")
    assert (trusted.status, trusted.records[0]["sources"][0]["packages"]) == (0, 1)

    traced = either("trace", *on_linux, "/opt/bin/app")
    trace = msgspec.json.decode(traced.out, type=TraceRecord, dec_hook=as_message)
    assert (traced.status, trace.faults) == (1, 1)
    assert [c.name for c in trace.components if c.fault] == ["liba.so"]

    asked = either("restore", *on_linux, "/opt/bin/app")
    assert (asked.status, asked.records[0]["state"]) == (1, "declined")
    restored = either("restore", *on_linux, "--yes", "/opt/bin/app")
    record = msgspec.json.decode(restored.out, type=RestoreRecord, dec_hook=as_message)
    assert (restored.status, record.state, record.faults_before, record.faults) == (0, "restored", 1, 0)
    assert (linux.root / "opt/lib/liba.so").read_bytes() == library

    history = msgspec.json.decode(either("history", *on_linux).out, type=HistoryRecord)
    assert [(entry.number, entry.state) for entry in history.restorations] == [(1, "done")]
    undone = either("undo", *on_linux)
    assert msgspec.json.decode(undone.out, type=UndoRecord).undone.paths == ("/opt/lib/liba.so",)
    assert not (linux.root / "opt/lib").exists()


def test_a_program_on_the_path_is_found_by_its_name_and_machine_paths_on_this_host_too(
    fundamen: Fundamen, linux: ALinuxMachine
) -> None:
    [record] = fundamen("trace", "--json", "env").records
    assert os.path.basename(record["program"]["path"]) == "env"
    linux.program("/opt/bin/app")
    [record] = fundamen("trace", "--json", "--machine", str(linux.root), str(linux.root / "opt/bin/app")).records
    assert record["program"]["path"] == "/opt/bin/app"


def test_output_is_plain_ascii_where_the_terminal_can_draw_no_marks(cold: Fundamen, bad: Path) -> None:
    ran = cold("trace", str(bad / "cut"), PYTHONIOENCODING="ascii", PYTHONUTF8="0", LC_ALL="C")
    assert ran.out.isascii()
    assert "% corrupt" in ran.out


def test_a_terminal_escape_in_a_file_never_reaches_the_terminal(either: Fundamen, linux: ALinuxMachine) -> None:
    linux.program("/app", needs=("lib\x1b[2Jx.so",))
    ran = either("trace", "--machine", str(linux.root), "/app", LC_ALL="C.UTF-8")
    assert "\x1b" not in ran.out + ran.err
    assert "lib\\x1b[2Jx.so" in ran.out


def test_the_log_file_keeps_the_traceback_of_a_refusal(either: Fundamen, bad: Path, tmp_path: Path) -> None:
    either("trace", "--log-file", str(tmp_path / "log"), str(bad / "empty"))
    assert "NotExecutableError" in (tmp_path / "log").read_text()


def test_version_loads_nothing_that_only_other_commands_need() -> None:
    code = "import sys, fundamen.cli.main as m\ntry: m.main()\nfinally: print(*sys.modules)"
    run = subprocess.run([sys.executable, "-c", code, "--version"], capture_output=True, text=True, check=True)
    version, modules = run.stdout.splitlines()
    heavy = {"msgspec", "tuf", "cryptography", "sqlite3", "rich", "fundamen.trace.trace", "fundamen.cli.options"}
    assert version == f"fundamen {__import__('fundamen').__version__}"
    assert not heavy & set(modules.split())


def test_tracing_loads_neither_the_update_framework_nor_the_database() -> None:
    code = "import sys, fundamen.cli.main as m\ntry: m.main()\nfinally: print(*sys.modules, file=sys.stderr)"
    run = subprocess.run(
        [sys.executable, "-c", code, "trace", sys.executable], capture_output=True, text=True, check=False
    )
    assert run.returncode in {0, 1}
    assert not {"tuf", "cryptography", "sqlite3", "rich", "fundamen.formats.windows.pe"} & set(run.stderr.split())


def test_every_error_has_its_exit_status_and_every_status_its_own_number() -> None:
    def below(kind: type[FundamenError]) -> set[type[FundamenError]]:
        return {kind}.union(*(below(child) for child in kind.__subclasses__()))

    for kind in below(FundamenError) - {FundamenError}:
        assert exit_of(kind("what", "why", "do")) in set(BY_ERROR.values())
    assert sorted(BY_ERROR.values()) == [2, 3, 4, 5, 6, 70]
    assert (Exit.NOTHING_AT_FAULT, Exit.FAULT_FOUND) == (0, 1)


def test_a_file_that_is_not_what_its_package_recorded_is_reported_by_inspect(
    either: Fundamen, linux: ALinuxMachine
) -> None:
    linux.library("/usr/lib/libtide.so.4").file("/var/lib/dpkg/status", b"Package: tide\nVersion: 4.2-1\n\n")
    linux.file("/var/lib/dpkg/info/tide.md5sums", b"0" * 32 + b"  usr/lib/libtide.so.4\n")
    ran = either("inspect", "--machine", str(linux.root), "/usr/lib/libtide.so.4")
    assert (
        ran.status,
        "not what it should be" in ran.out,
        says(ran.out, "evidence.differs-from-package-md5-not", title="tide 4.2-1"),
    ) == (1, True, True)
