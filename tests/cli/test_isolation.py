"""One input on which Fundamen itself fails takes no other along: it gets its own answer, and the run goes on."""

import gzip
from collections.abc import Iterator
from pathlib import Path

import pytest

from builders.machine import ALinuxMachine
from conftest import Fundamen
from fundamen.model.errors import FundamenError, InternalError, UnreadableError
from fundamen.model.isolation import Isolated

BUG = 70
LOG = "/opt/x: error while loading shared libraries: lib{}.so: cannot open shared object file\n"
SHEET = """schema = "fundamen.sheet/1"
name = "It"
[[requirement]]
id = "release"
kind = "file"
path = "/etc/os-release"
[[requirement]]
id = "memory"
kind = "memory"
total = "1"
"""


@pytest.fixture
def temporary(tmp_path: Path) -> Iterator[Path]:
    """Where the command writes down its own faults."""
    folder = tmp_path / "temporary"
    folder.mkdir()
    yield folder
    assert all("LookupError" in file.read_text() for file in folder.glob("fundamen-bug-*"))


@pytest.fixture
def three(linux: ALinuxMachine) -> ALinuxMachine:
    for name in ("one", "two", "three"):
        linux.program(f"/opt/{name}", needs=("libtide.so.2",))
        linux.file(f"/var/log/{name}.log", LOG.format(name).encode())
        linux.file(f"/opt/{name}.deb", b"!<arch>\n").file(f"/opt/{name}.toml", SHEET.encode())
    return linux.library("/usr/lib/libtide.so.2")


PROGRAMS, PACKAGES, LOGS, SHEETS = ("/opt/{}", "/opt/{}.deb", "linux/var/log/{}.log", "linux/opt/{}.toml")
COMMANDS = {  # words, what each input is called, where the bug is
    "trace": (("trace",), PROGRAMS, "fundamen.trace.trace:load_map"),
    "trace, where files are judged": (
        ("trace",),
        PROGRAMS,
        "fundamen.trace.judging:Judging.__init__:program='/opt/two'",
    ),
    "trace, where it is reported": (("trace",), PROGRAMS, "fundamen.report.contracts.tracing:trace_record"),
    "inspect": (("inspect",), PROGRAMS, "fundamen.machine.machine:read_binary"),
    "installer": (("installer",), PACKAGES, "fundamen.cli.commands.examine.installer:look_into"),
    "clues": (("clues", "--only-read"), LOGS, "fundamen.cli.commands.find_out.clues:read_text"),
    "clues, where texts are found": (("clues", "--only-read"), LOGS, "fundamen.cli.commands.find_out.clues:texts_of"),
    "build": (("build",), LOGS, "fundamen.cli.commands.find_out.build:_text_of"),
    "prereqs": (("prereqs",), SHEETS, "fundamen.cli.commands.examine.prereqs:read_sheet"),
}


@pytest.mark.parametrize("case", COMMANDS)
def test_the_others_are_answered_the_bug_is_written_down_and_the_status_tells(
    case: str, fundamen: Fundamen, three: ALinuxMachine, temporary: Path
) -> None:
    (command, *more), form, place = COMMANDS[case]
    inputs = [form.format(name) for name in ("one", "two", "three")]
    words = (command, *more, "-m", three.root, "--json", *inputs)
    healthy = fundamen(*words)
    assert (healthy.status != BUG, len(healthy.records)) == (True, 3), healthy.err
    ran = fundamen(*words, A_BUG_IN=place if place.count(":") > 1 else f"{place}:{inputs[1]}", TMPDIR=str(temporary))
    assert ran.status == BUG, ran.err
    first, failed, last = ran.records
    assert [first, last] == healthy.records[::2]
    assert failed["error"]["code"] == "internal"
    [file] = temporary.glob("fundamen-bug-*")
    assert str(file) in ran.err


def test_a_survey_goes_on_past_a_program_and_tells_it(
    fundamen: Fundamen, three: ALinuxMachine, temporary: Path
) -> None:
    bug = "fundamen.trace.trace:load_map:two"
    ran = fundamen("survey", "-m", three.root, "/opt", "--json", A_BUG_IN=bug, TMPDIR=str(temporary))
    [survey] = ran.records
    assert (ran.status, [each["path"] for each in survey["untraced"]]) == (BUG, ["/opt/two"])
    assert survey["programs"] == 3


def test_a_sheet_keeps_its_other_answers(fundamen: Fundamen, three: ALinuxMachine, temporary: Path) -> None:
    sheet = three.root / "opt/one.toml"
    bug = "fundamen.prerequisites.kinds.memory:MemoryRequirement.check:memory"
    ran = fundamen("prereqs", "--json", sheet, A_BUG_IN=bug, TMPDIR=str(temporary))
    [record] = ran.records
    assert (ran.status, [each["standing"] for each in record["requirements"]]) == (BUG, ["met", "unknown"])


def test_a_run_has_one_file_of_its_faults(fundamen: Fundamen, three: ALinuxMachine, temporary: Path) -> None:
    paths = ("/opt/one", "/opt/two", "/opt/three")
    ran = fundamen(
        "trace", "-m", three.root, *paths, A_BUG_IN="fundamen.trace.trace:load_map:opt", TMPDIR=str(temporary)
    )
    [file] = temporary.glob("fundamen-bug-*")
    assert (ran.status, ran.out, file.read_text().count("Traceback")) == (BUG, "", 3)


@pytest.mark.parametrize(
    ("raised", "becomes"),
    [
        (ZeroDivisionError("x"), InternalError),
        (RecursionError(), InternalError),
        (FileNotFoundError(2, "no such file", "/x"), UnreadableError),
        (UnreadableError("what", "why", "do"), UnreadableError),
        (BrokenPipeError(), BrokenPipeError),
        (KeyboardInterrupt(), KeyboardInterrupt),
    ],
)
def test_only_what_belongs_to_the_input_becomes_its_error(raised: BaseException, becomes: type[BaseException]) -> None:
    with pytest.raises(becomes) as caught, Isolated("it"):
        raise raised
    assert type(caught.value) is becomes
    assert isinstance(raised, FundamenError | BrokenPipeError | KeyboardInterrupt) == (caught.value is raised)


@pytest.mark.parametrize(
    "words", [("undo",), ("resume",), ("case", "reopen"), ("cold-copies", "check"), ("cold-copies", "restore")]
)
def test_a_number_beyond_all_numbers_is_wrong_usage(fundamen: Fundamen, words: tuple[str, ...]) -> None:
    assert fundamen(*words, "99999999999999999999").status == 2


def test_a_damaged_packed_log_is_reported_and_the_others_are_read(fundamen: Fundamen, tmp_path: Path) -> None:
    text = LOG.format("tide").encode() * 200
    packed = bytearray(gzip.compress(text))
    packed[len(packed) // 2 :] = b"\xff" * (len(packed) - len(packed) // 2)
    (tmp_path / "a.log.gz").write_bytes(packed)
    (tmp_path / "b.log").write_bytes(text)
    ran = fundamen("clues", "--only-read", "--json", "a.log.gz", "b.log")
    assert (ran.status, [record.get("error") is None for record in ran.records]) == (3, [False, True])
