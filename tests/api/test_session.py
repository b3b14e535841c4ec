"""A session does from Python what the commands do; the examples in docs/ run."""

import json
import os
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import fundamen
from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import ASource
from conftest import Fundamen
from fundamen import FundamenError, Session, Verdict

EXAMPLES = Path(__file__).parents[2] / "docs" / "examples"
LIBRARY = an_elf(soname="liba.so")


@pytest.fixture
def broken(linux: ALinuxMachine, tmp_path: Path, home: Path, fundamen: Fundamen) -> ALinuxMachine:
    """A machine with a program that lacks a library, which a trusted source has."""
    linux.program("/opt/app/bin/app", needs=("liba.so",), runpath="/opt/app/lib")
    source = ASource(tmp_path, home)
    source.published({"liba.so": LIBRARY})
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    return linux


def test_a_program_is_traced_rehearsed_repaired_and_restored_to_its_state(broken: ALinuxMachine, home: Path) -> None:
    session = Session(home)
    program, library = "/opt/app/bin/app", broken.root / "opt/app/lib/liba.so"
    traced = session.trace(program, broken.root)
    assert [(fault.name, fault.verdict) for fault in traced.faults] == [("liba.so", Verdict.MISSING)]
    rehearsal = session.rehearse(program, machine=str(broken.root))
    assert (rehearsal.is_offered, rehearsal.faults_after, library.exists()) == (True, 0, False)
    done = session.perform(rehearsal)
    assert (done.is_well, library.read_bytes()) == (True, LIBRARY)
    assert session.trace(program, broken.root).faults == ()
    assert session.undo(machine=broken.root).number == done.number
    assert not library.exists()


def test_a_plan_is_saved_and_performed_elsewhere(broken: ALinuxMachine, home: Path, tmp_path: Path) -> None:
    session = Session(home)
    session.rehearse("/opt/app/bin/app", machine=broken.root).save(tmp_path / "app.plan")
    planned = session.plan(tmp_path / "app.plan", broken.root)
    assert (planned.is_offered, session.perform(planned).is_well) == (True, True)
    with pytest.raises(FundamenError):  # it is done already, so the plan does not fit any more
        session.perform(session.plan(tmp_path / "app.plan", broken.root))


def test_results_are_the_records_of_the_commands(broken: ALinuxMachine, home: Path, fundamen: Fundamen) -> None:
    session, root = Session(home), str(broken.root)
    traced = session.trace("/opt/app/bin/app", root).to_json()
    assert json.loads(traced) == fundamen("trace", "-m", root, "/opt/app/bin/app", "--json").records[0]
    rehearsed = session.rehearse("/opt/app/bin/app", machine=root).to_json()
    words = ("restore", "--rehearse", "-m", root, "/opt/app/bin/app", "--json")
    assert json.loads(rehearsed) == fundamen(*words).records[0]
    survey = json.loads(session.survey(root, folders=["/opt"]).to_json())
    assert survey["faults"] == fundamen("survey", "-m", root, "/opt", "--json").records[0]["faults"] == 1


def test_a_message_is_explained_with_its_background(broken: ALinuxMachine, home: Path) -> None:
    text = "/opt/app/bin/app: error while loading shared libraries: liba.so: cannot open shared object file"
    result = Session(home).clues(text, broken.root)
    assert result.background is not None
    assert [fault.name for trace in result.background.traces for fault in trace.faults] == ["liba.so"]
    assert json.loads(result.to_json())["schema"] == "fundamen.clues/4"


def test_the_clock_is_the_callers(broken: ALinuxMachine, home: Path) -> None:
    notes: list[str] = []
    late = Session(home, clock=lambda: datetime.now(UTC) + timedelta(days=4000), note=notes.append)
    late.trace("/opt/app/bin/app", broken.root)
    assert any("has expired" in note for note in notes)


def test_everything_public_is_shown_and_documented() -> None:
    assert dir(fundamen) == sorted(fundamen.__all__)
    for name in fundamen.__all__:
        assert name == "__version__" or getattr(fundamen, name).__doc__


@pytest.mark.parametrize(
    ("example", "words", "status", "said"),
    [
        ("faulty_programs.py", ("/opt/app/bin", "ROOT"), 1, "app: liba.so is missing"),
        ("explain_log.py", ("LOG",), 1, "line 2: ./app: error while loading"),
        ("repair.py", ("/opt/app/bin/app", "ROOT"), 0, "restoration 1: well"),
    ],
)
def test_each_example_runs(
    broken: ALinuxMachine, home: Path, tmp_path: Path, example: str, words: tuple[str, ...], status: int, said: str
) -> None:
    (tmp_path / "LOG").write_text("start\n./app: error while loading shared libraries: liba.so: cannot open shared\n")
    given = [{"ROOT": str(broken.root), "LOG": str(tmp_path / "LOG")}.get(word, word) for word in words]
    environment = {**os.environ, "FUNDAMEN_HOME": str(home), "PYTHONPATH": os.pathsep.join(sys.path)}
    command = [sys.executable, str(EXAMPLES / example), *given]
    ran = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    assert (ran.returncode, said in ran.stdout) == (status, True), ran.stdout + ran.stderr
