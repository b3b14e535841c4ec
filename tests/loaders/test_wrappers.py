"""A script that starts a program is traced with it, as the script sets it up; what only a run could tell is said."""

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.machine import ALinuxMachine
from fundamen.loaders.load_map import STARTED
from fundamen.loaders.starting import StartUnknownError
from fundamen.loaders.wrappers import find_start
from fundamen.model.paths import MachinePath
from fundamen.trace.records import Trace
from fundamen.trace.trace import find_faults, trace_program

RUN = MachinePath("/opt/tide/run")
OWN_FOLDER = 'here="$(cd "$(dirname "$0")" && pwd)"\n'


@pytest.fixture
def harbour(linux: ALinuxMachine) -> ALinuxMachine:
    """A program that needs a library which lies in a folder of its own."""
    linux.program("/bin/sh", needs=[]).program("/opt/tide/bin/tide", needs=["libtide.so.2"])
    return linux.library("/opt/tide/lib/libtide.so.2").program("/usr/bin/ebb", needs=[])


def traced(linux: ALinuxMachine, script: str, path: str = RUN) -> Trace:
    linux.file(path, f"#!/bin/sh\n{script}".encode(), 0o755)
    return trace_program(linux.opened(), MachinePath(path))


def started(trace: Trace) -> list[str | None]:
    return [component.path for component in trace.components if component.kind == STARTED]


@pytest.mark.parametrize(
    "script",
    [
        'export LD_LIBRARY_PATH=/opt/tide/lib\nexec /opt/tide/bin/tide "$@"\n',
        "LD_LIBRARY_PATH=/opt/tide/lib\nexport LD_LIBRARY_PATH\n/opt/tide/bin/tide\n",
        "LD_LIBRARY_PATH=/opt/tide/lib /opt/tide/bin/tide\n",
        "exec env LD_LIBRARY_PATH=/opt/tide/lib nice /opt/tide/bin/tide\n",
        f'{OWN_FOLDER}export LD_LIBRARY_PATH="$here/lib:$LD_LIBRARY_PATH"\nexec "$here/bin/tide"\n',
        'here=$(dirname "$(readlink -f "$0")")\nexport LD_LIBRARY_PATH="${here}/lib"\n"${here}/bin/tide" --now\n',
        'cd "${0%/*}"\nexport LD_LIBRARY_PATH=$PWD/lib\nexec ./bin/tide\n',
        "cd /opt/tide\nPATH=/opt/tide/bin:$PATH\nexport LD_LIBRARY_PATH=/opt/tide/lib\nexec tide\n",
        '. /opt/tide/env\nexec "${TIDE_HOME:-/nowhere}/bin/tide"\n',
        'if [ -z "$TOP" ]; then TOP=/opt/tide; fi\nLD_LIBRARY_PATH=/opt/tide/lib exec "$TOP/bin/tide"\n',
        'if [ -d /x ]; then T=/x/tide; else T=/opt/tide/bin/tide; fi\nLD_LIBRARY_PATH=/opt/tide/lib exec "$T"\n',
        'T=$(command -v ebb || echo /x)\n: "$T"\nLD_LIBRARY_PATH=/opt/tide/lib exec /opt/tide/bin/tide\n',
        'if [ -n "$DEBUG" ]; then set -x; fi\nexport LD_LIBRARY_PATH=/opt/tide/lib\nexec /opt/tide/bin/tide\n',
    ],
)
def test_the_program_that_a_script_starts_finds_what_the_script_sets(harbour: ALinuxMachine, script: str) -> None:
    harbour.file("/opt/tide/env", b"TIDE_HOME=/opt/tide\nexport LD_LIBRARY_PATH=$TIDE_HOME/lib\n")
    trace = traced(harbour, script)
    assert (started(trace), trace.faults, trace.not_followed) == (["/opt/tide/bin/tide"], (), "")
    assert next(c.path for c in trace.components if c.name == "libtide.so.2") == "/opt/tide/lib/libtide.so.2"


def test_without_the_variable_the_library_is_missing_and_its_chain_leads_through_the_script(
    harbour: ALinuxMachine,
) -> None:
    [fault] = traced(harbour, "exec /opt/tide/bin/tide\n").faults
    assert (fault.name, fault.chain) == ("libtide.so.2", (RUN, "/opt/tide/bin/tide"))
    machine = harbour.opened()
    before = machine.environment
    trace_program(machine, RUN)
    assert machine.environment is before


def test_a_program_that_is_gone_or_may_not_be_run_is_the_fault(harbour: ALinuxMachine) -> None:
    [gone] = traced(harbour, "exec /opt/tide/bin/gone\n").faults
    assert (gone.name, gone.verdict) == ("/opt/tide/bin/gone", "missing")
    (harbour.root / "opt/tide/bin/tide").chmod(0o644)
    [barred] = traced(harbour, "exec /opt/tide/bin/tide\n").faults
    assert (barred.name, barred.verdict) == ("/opt/tide/bin/tide", "blocked")


def test_what_a_condition_decides_is_needed_only_later(harbour: ALinuxMachine) -> None:
    trace = traced(harbour, 'if [ "$1" = chart ]; then exec /opt/tide/bin/chart; fi\nebb\n')
    assert trace.faults == ()
    assert [(c.name, c.verdict) for c in trace.components if c.kind == STARTED] == [("/opt/tide/bin/chart", "missing")]
    trace = traced(harbour, 'T=/opt/a\nif [ -d /x ]; then T=$(tidefind); fi\nexec "$T"\n')
    assert (started(trace), trace.faults) == ([None], ())


@pytest.mark.parametrize(
    "script",
    [
        'exec "$(find /opt -name tide)"\n',
        'tide=$(tidefind)\nexec "$tide"\n',
        "if [ -d /x ]; then exec /opt/a; else exec /opt/b; fi\n",
        'if [ -d /x ]; then T=/opt/a; else T=/opt/b; fi\nexec "$T"\n',
        "exec ./bin/tide\n",
        "exec /opt/tide/run\n",
    ],
)
def test_what_only_a_run_could_tell_is_said(harbour: ALinuxMachine, script: str) -> None:
    trace = traced(harbour, script)
    assert trace.not_followed
    assert trace.faults == ()


def test_scripts_that_start_one_another_end(harbour: ALinuxMachine) -> None:
    harbour.file("/opt/tide/other", b"#!/bin/sh\nexec /opt/tide/run\n", 0o755)
    trace = traced(harbour, "exec /opt/tide/other\n")
    assert (started(trace), bool(trace.not_followed)) == (["/opt/tide/other", "/opt/tide/run"], True)


def test_a_script_that_does_its_work_itself_starts_nothing_and_surveys_do_not_follow(harbour: ALinuxMachine) -> None:
    assert started(traced(harbour, "ebb --now\necho done\n")) == []
    harbour.file(RUN, b"#!/bin/sh\nexec /opt/tide/bin/tide\n", 0o755)
    [found] = find_faults(harbour.opened(), [RUN])
    assert getattr(found, "faults", None) == ()


@given(st.text(alphabet="exec $(){}\"'`;&|\n/opt=ab#%*0@<>\\", max_size=120))
def test_any_script_is_followed_or_said_to_be_unknown(tmp_path_factory: pytest.TempPathFactory, text: str) -> None:
    linux = ALinuxMachine(tmp_path_factory.getbasetemp() / "any").file("/run", f"#!/bin/sh\n{text}".encode(), 0o755)
    with suppress(StartUnknownError):
        start = find_start(linux.opened(), MachinePath("/run"))
        assert start is None or start.words
