"""A log for the field: what was tried and decided, and how long it took; nothing that is secret is in it."""

import logging
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import ASource
from conftest import Fundamen
from fundamen.model.paths import MachinePath
from fundamen.model.timing import log_time
from fundamen.trace.trace import trace_program

APP, LIBRARY = "/opt/tide/bin/tide", "libtide.so.2"


@pytest.fixture
def office(linux: ALinuxMachine, tmp_path: Path, home: Path) -> ALinuxMachine:
    """A program that lacks a library which a trusted source has."""
    linux.program(APP, needs=[LIBRARY], runpath="$ORIGIN/../lib").library("/usr/lib/libtide.so.2", "x86")
    ASource(tmp_path, home).published({LIBRARY: an_elf(soname=LIBRARY)}).trusted()
    return linux


def test_a_restoration_tells_what_loaders_planner_sources_and_execution_did(
    fundamen: Fundamen, office: ALinuxMachine, tmp_path: Path
) -> None:
    ran = fundamen("restore", "--yes", "-m", office.root, APP, "--json", "--log-file", "it.log")
    assert (ran.status, len(ran.records), "ms  " in ran.err) == (0, 1, False), ran.err
    log = (tmp_path / "it.log").read_text()
    for package, said in {
        "loaders.loading": f"{APP} needs {LIBRARY}: not found",
        "restore.plan": "chosen: Saltgrass 1.0 for x86_64",
        "restore.rehearsal": "done in",
        "sources.store": "refreshing the source",
        "execution.carrying_out": "restoration 1 is done",
    }.items():
        lines = [line for line in log.splitlines() if f"  {package}" in line and said in line]
        assert lines, (package, said)


def test_it_is_shown_where_it_is_asked_for_twice_and_added_to_a_file(
    fundamen: Fundamen, office: ALinuxMachine, tmp_path: Path
) -> None:
    quiet, shown = (fundamen("trace", "-m", office.root, flag, APP, "--json") for flag in ("-v", "-vv"))
    assert (quiet.err, quiet.out) == ("", shown.out)
    assert f"needs {LIBRARY}" in shown.err
    for _ in range(2):
        fundamen("trace", "-m", office.root, APP, "--log-file", "it.log")
    assert (tmp_path / "it.log").read_text().count(f"needs {LIBRARY}") == 2
    assert fundamen("trace", APP, "--log-file", "nowhere/it.log").status == 3


def test_neither_secrets_nor_control_characters_are_in_it(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    linux.program("/app", needs=["lib\x1b[2Jx.so", "password=sesame"])
    ran = fundamen("trace", "-vv", "-m", linux.root, "/app")
    assert ("sesame" in ran.err, "\x1b" in ran.err, "lib\\x1b[2Jx.so" in ran.err) == (False, False, True)


def test_anyone_who_uses_the_library_has_it_by_its_own_handlers(
    linux: ALinuxMachine, caplog: pytest.LogCaptureFixture
) -> None:
    linux.program(APP, needs=[LIBRARY])
    with caplog.at_level(logging.DEBUG, "fundamen"):
        trace_program(linux.opened(), MachinePath(APP))
    assert f"needs {LIBRARY}: not found" in caplog.text


def test_what_fails_is_reported_with_its_error_and_passed_on(caplog: pytest.LogCaptureFixture) -> None:
    log = logging.getLogger("fundamen.it")
    with caplog.at_level(logging.DEBUG, "fundamen"), pytest.raises(ZeroDivisionError), log_time(log, "adding %d", 2):
        raise ZeroDivisionError("no")
    assert [record.getMessage()[:16] for record in caplog.records] == ["adding 2", "adding 2: failed"]
