"""A publisher's installer as a step: run only if signed, its changes known; interrupted or undone, all is as it was."""

import hashlib
import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from builders.pe import a_pe
from builders.signing import APublisher
from builders.tree import Tree, tree_of
from command import Ran
from conftest import Fundamen
from faults import Faults, Mode, Outcome
from fundamen.changes.installer_following import InstallerLog
from wording import says

UNFINISHED, LEFT = 6, ".fundamen-left-"
SYSTEM_REG = r"""WINE REGISTRY Version 2

[System\\CurrentControlSet\\Control\\Session Manager\\Environment] 1700000000
"PATH"=str(2):"C:\\windows;C:\\Berth"

[System\\CurrentControlSet\\Services\\Tide] 1700000000
"Start"=dword:00000002
"""
# What stands in for wine performs a script in place of the program; what the script does is what the installer does.
WINE = """#!/bin/sh
[ "$1" = --version ] && {{ echo stand-in 1.0; exit; }}
cd "$WINEPREFIX" && sh {script}
status=$?
echo "fundamen-status $status"
exit $status
"""
INSTALLS = """
mkdir "drive_c/Tide 4" && echo new > "drive_c/Tide 4/tide.txt" && echo more >> drive_c/berth.ini
cp drive_c/older.dll drive_c/windows/system32/salt.dll
rm drive_c/windows/system32/reed.dll drive_c/now && ln -s berth.ini "drive_c/Tide 4/link"
sed -i 's/;C:..Berth//; s/00000002/00000004/' system.reg
printf '\\n[Software\\\\\\\\Tide] 1\\n"Is"="here"\\n' >> system.reg
"""
LOG = """
Action 9:00:00: Chart. Drawing charts
Error 1722. There is a problem with this Windows Installer package. A program did not finish as expected.
Action ended 9:00:01: Chart. Return value 3.
MainEngineThread is returning 1603
"""


def as_it_is(root: Path) -> Tree:
    """Everything in a folder, without when it was last read: installers read what they like."""
    return {path: (*state[:5], state[-1]) for path, state in tree_of(root).items()}


class Office:
    """A prefix with a signed installer, and a wine that performs a script."""

    def __init__(self, folder: Path, fundamen: Fundamen) -> None:
        self.root, self.script, self._fundamen = folder / "prefix", folder / "script", fundamen
        self.folder, publisher = folder, APublisher()
        drive = self.root / "drive_c"
        for inner in ("windows/system32", "windows/temp"):
            (drive / inner).mkdir(parents=True)
        (self.root / "dosdevices").mkdir()
        (self.root / "dosdevices/c:").symlink_to("../drive_c")
        (drive / "berth.ini").write_text("[berth]\n")
        (drive / "now").symlink_to("berth.ini")
        for path, version in (("windows/system32/salt.dll", (4, 2, 0, 0)), ("older.dll", (4, 1, 0, 0))):
            (drive / path).write_bytes(a_pe(name="salt.dll", version=version))
        (drive / "windows/system32/reed.dll").write_bytes(a_pe(name="reed.dll"))
        for name in ("system.reg", "user.reg", "userdef.reg"):
            (self.root / name).write_text(SYSTEM_REG if name == "system.reg" else "WINE REGISTRY Version 2\n")
        (self.root / ".update-timestamp").write_text("disable\n")
        self.setup = publisher.sign(a_pe(name="setup.exe"))
        (drive / "setup.exe").write_bytes(self.setup)
        (folder / "root.pem").write_bytes(publisher.root.pem)
        self.tools = folder / "tools"
        self.tools.mkdir()
        for name, text in (("wine64", WINE.format(script=self.script)), ("wineserver64", "#!/bin/sh\n")):
            (self.tools / name).write_text(text)
            (self.tools / name).chmod(0o755)
        self.script.write_text(INSTALLS)
        fingerprint = publisher.root.certificate.sha256
        words = ("--issuer", str(folder / "root.pem"), "--fingerprint", fingerprint, "--yes")
        self.imported = words
        self.before: Tree = {}

    def run(self, *words: str) -> Ran:
        return self._fundamen(*words, "-m", str(self.root))

    def trusting(self) -> "Office":
        assert self.run("roots", "import", *self.imported, "C:\\setup.exe").status == 0
        self.before = as_it_is(self.root)
        return self

    @property
    def plan(self) -> str:
        sha256 = hashlib.sha256(self.setup).hexdigest()
        step = {"do": "run installer", "path": "C:\\setup.exe", "sha256": sha256, "log": "C:\\windows\\temp\\setup.log"}
        plan: dict[str, Any] = {"schema": "fundamen.plan/1", "program": "C:\\x.exe", "machine": "it", "steps": [step]}
        path = self.folder / "it.plan"
        path.write_text(json.dumps({**plan, "made_at": "2026-01-01T00:00:00Z"}))
        return str(path)

    def install(self, *words: str) -> Ran:
        return self.run("plans", "run", "--yes", self.plan, *words)


@pytest.fixture
def office(tmp_path: Path, fundamen: Fundamen, monkeypatch: pytest.MonkeyPatch) -> Office:
    office = Office(tmp_path, fundamen)
    monkeypatch.setenv("PATH", f"{office.tools}:{os.environ['PATH']}")
    return office


def test_one_whose_publisher_no_one_trusts_and_one_that_was_altered_are_not_run(office: Office) -> None:
    before = as_it_is(office.root)
    ran = office.install()
    assert (ran.status, says(ran.err, "changes.its-publisher-is-not-proven")) == (4, True), ran.err
    assert as_it_is(office.root) == before
    office.trusting()
    plan = office.plan
    setup = office.root / "drive_c/setup.exe"
    setup.write_bytes(office.setup[:-1] + b"?")
    ran = office.run("plans", "run", "--yes", plan)
    assert (ran.status, says(ran.err, "changes.its-sha-256-is-not-the")) == (4, True), ran.err


def test_what_it_changed_and_what_it_made_worse_is_reported_and_an_undo_gives_back_every_byte(office: Office) -> None:
    ran = office.trusting().install()
    assert (ran.status, "But it made 4 things worse." in ran.out) == (1, True), ran.out + ran.err
    answer = " ".join(ran.out.split())
    assert "3 added, 3 changed, 2 removed" in answer
    assert says(answer, "changes.has-lost", name="PATH", lost="C:\\Berth")
    assert says(answer, "changes.the-service-was-started-before-and", service="Tide")
    assert says(answer, "changes.had-the-version-and-has-the", old="4.2.0.0", new="4.1.0.0")
    assert says(answer, "changes.was-there-and-is-gone")
    assert (office.root / "drive_c/Tide 4/tide.txt").read_text() == "new\n"
    undone = office.run("undo")
    assert undone.status == 0, undone.err
    assert as_it_is(office.root) == office.before


def test_what_others_have_written_since_stays_and_what_they_have_changed_hinders(office: Office) -> None:
    assert office.trusting().install().status == 1
    (office.root / "drive_c/Tide 4/own.txt").write_text("own")
    with (office.root / "system.reg").open("a") as file:
        file.write('\n[Software\\\\Since] 1\n"Own"="yes"\n')
    (office.root / "drive_c/berth.ini").write_text("changed since")
    hindered = office.run("undo")
    assert (hindered.status, "drive_c/berth.ini" in hindered.err) == (5, True), hindered.err
    (office.root / "drive_c/berth.ini").write_text("[berth]\n")
    assert office.run("undo").status == 0
    assert (office.root / "drive_c/Tide 4/own.txt").read_text() == "own"
    registry = (office.root / "system.reg").read_text()
    assert [text in registry for text in ("C:\\\\Berth", "dword:00000002", '"Own"', '"Is"')] == [
        True,
        True,
        True,
        False,
    ]


@pytest.mark.parametrize("status", [102, 1])
def test_one_that_fails_is_reported_with_its_cause_and_everything_is_as_before(office: Office, status: int) -> None:
    office.trusting()
    log = office.root / "drive_c/windows/temp/setup.log"
    office.script.write_text(f"{INSTALLS}\ncat > '{log}' <<'END'\n{LOG}END\nexit {status}\n")
    ran = office.install()
    assert (ran.status, "Error 1722" in ran.err) == (5, True), ran.err
    assert as_it_is(office.root) == office.before


def test_its_log_is_followed_while_it_runs_and_what_stood_in_it_before_is_none_of_its(
    office: Office, home: Path
) -> None:
    log = office.root / "drive_c/windows/temp/setup.log"
    log.write_text("Error 1999. Of another day\n")
    office.trusting()
    lines = LOG.strip().splitlines()
    writing = "\n".join(f"sleep 0.1; printf '%s\\n' '{line}' >> '{log}'" for line in lines)
    office.script.write_text(f"{writing}\nsleep 0.5; touch {office.folder}/ended; sleep 60\n")
    plan = Path(office.plan)
    plan.write_text(plan.read_text().replace('"log"', '"seconds": 2, "log"'))
    command = ["fundamen", "plans", "run", "--yes", "-m", str(office.root), str(plan)]
    tools = str(Path(sys.executable).parent)
    environment = {**os.environ, "PATH": f"{tools}:{os.environ['PATH']}", "FUNDAMEN_HOME": str(home)}
    streams: dict[str, Any] = {"stderr": subprocess.PIPE, "stdout": subprocess.DEVNULL}
    with subprocess.Popen(command, text=True, env=environment, **streams) as run:
        assert run.stderr is not None
        answer = [run.stderr.readline() for _ in range(3)]
        assert run.poll() is None  # it still runs
        run.communicate()
    words = [line.partition(": ")[2].strip() for line in answer]
    assert words == lines[1:]
    assert run.returncode == 5
    assert as_it_is(office.root) == office.before


def test_one_that_does_not_end_is_ended(office: Office) -> None:
    office.trusting()
    office.script.write_text(f"{INSTALLS}\nsleep 60\n")
    plan = Path(office.plan)
    plan.write_text(plan.read_text().replace('"log"', '"seconds": 1, "log"'))
    ran = office.run("plans", "run", "--yes", str(plan))
    assert (ran.status, "had not ended after 1 s" in ran.err) == (5, True), ran.err
    assert as_it_is(office.root) == office.before


@pytest.fixture
def faults(office: Office, home: Path) -> Faults:
    return Faults(office.folder, home, path=f"{office.tools}:/usr/bin:/bin")


@pytest.mark.parametrize(
    "every", [67, pytest.param(1, marks=[pytest.mark.system, pytest.mark.long])], ids=["sampled", "in full"]
)
def test_killed_anywhere_it_is_run_again_or_the_prefix_is_as_before(office: Office, faults: Faults, every: int) -> None:
    office.trusting()
    plan = office.plan

    def run(*words: str, mode: Mode = Mode.COUNT, at: int = 0) -> Outcome:
        outcome = faults.run(*words, "-m", str(office.root), mode=mode, at=at)
        assert "Traceback" not in outcome.said, outcome.said
        return outcome

    installing = ("plans", "run", "--yes", plan)
    total = run(*installing).calls
    after = {path: state[0] for path, state in as_it_is(office.root).items()}
    assert run("undo").status == 0
    assert total > 60
    kinds = set[str]()
    for at in range(1, total + 1, every):
        run(*installing, mode=Mode.KILL, at=at)
        is_unfinished = run("history").status == UNFINISHED
        if is_unfinished and at // every % 2:
            resumed = run("resume")
            assert resumed.status == 0, resumed.said
            now = {path: state[0] for path, state in as_it_is(office.root).items() if not path.startswith(LEFT)}
            assert now == after  # what the first run had added lies aside
            kinds.add("resumed")
        if is_unfinished or as_it_is(office.root) != office.before:
            undone = run("undo")
            assert undone.status == 0, undone.said
        left = [path for path in office.root.iterdir() if path.name.startswith(".fundamen-")]
        subprocess.run(["rm", "-rf", *left], check=True)
        found = as_it_is(office.root)
        differing = {path for path in found.keys() | office.before.keys() if found.get(path) != office.before.get(path)}
        assert not differing, f"killed at call {at}: {differing}"
    assert every > 1 or kinds == {"resumed"}


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "utf-8-sig"])
def test_the_decisive_lines_of_a_log_are_reported_as_they_are_written(tmp_path: Path, encoding: str) -> None:
    answer: list[str] = []
    log = InstallerLog((str(tmp_path), "setup.log"), answer.append)
    data = LOG.encode(encoding)
    for at in range(0, len(data), 7):
        with open(tmp_path / "SETUP.log", "ab") as file:
            file.write(data[at : at + 7])
        log.heed()
    lines = log.finish()
    assert [(line.number, line.is_cause) for line in lines] == [(3, True), (4, False), (5, False)]
    assert [line.split(" of ")[0] for line in answer] == ["line 3", "line 4", "line 5"]
