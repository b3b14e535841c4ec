"""Installers that are shell scripts: what they call and ask about is what a real shell then calls, and answers."""

import io
import os
import shutil
import subprocess
import tarfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from builders.machine import ALinuxMachine
from conftest import Fundamen
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.shell import ShellScript, read_shell
from fundamen.installers.script_run import foresee_script
from fundamen.machine.opening import open_machine

SHELL = shutil.which("sh") or ""
NAMES = [f"tool{number}" for number in range(6)]


def read(text: str | bytes) -> ShellScript:
    return read_shell(MemoryBytes(text if isinstance(text, bytes) else text.encode()))


@pytest.fixture(scope="module")
def tools(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder of commands, each of which only writes down that it was called; every second one fails."""
    folder = tmp_path_factory.mktemp("tools")
    for number, name in enumerate(NAMES):
        (folder / name).write_text(f'#!{SHELL}\necho {name} >> "$CALLED"\nexit {number % 2}\n')
        (folder / name).chmod(0o755)
    return folder


calls = st.builds(
    "{}{} {}".format,
    st.sampled_from(["", "A=1 ", "! ", "exec 3>&1; "]),
    st.sampled_from(NAMES),
    st.sampled_from(
        ["", "'a; tool0'", '"b && tool1"', "c\\;tool2", "# tool3", "> /dev/null 2>&1", "x=tool4", "$((1 + 2))"]
    ),
)
scripts = st.recursive(
    calls,
    lambda inner: st.one_of(
        st.lists(inner, min_size=1, max_size=3).map("\n".join),
        st.builds("if {}\nthen {}\nelse {}\nfi".format, inner, inner, inner),
        st.builds("{} && {}".format, calls.filter(lambda text: "#" not in text), inner),
        st.builds("{{ {}\n}} || {}".format, inner, calls),
        st.builds("for each in one two; do\n{}\ndone".format, inner),
        st.builds("case a in\nb) {}\n;;\n(a|c) {}\n;;\nesac".format, inner, inner),
        st.builds("({}\n)".format, inner),
        st.builds('V="$( {}\n)"'.format, inner),
        st.builds('cat <<END >/dev/null\ntool5; it\'s "text"\nEND\n{}'.format, inner),
        st.builds("step() {{\n{}\n}}\nstep".format, inner),
        st.builds("while {}\ndo break\ndone".format, inner),
    ),
    max_leaves=8,
)


@given(text=scripts)
@example(text="tool1 && { tool0; tool2; }")
@example(text="! tool0 && (exec 3>&1; tool1\n)")
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_whatever_a_shell_calls_was_read_and_what_is_certain_is_called(text: str, tools: Path, tmp_path: Path) -> None:
    called = tmp_path / "called"
    called.write_text("")
    environment = {"PATH": f"{tools}:{os.environ['PATH']}", "CALLED": str(called)}
    ran = subprocess.run([SHELL, "-c", text], env=environment, capture_output=True, check=False)
    assert b"yntax" not in ran.stderr, (text, ran.stderr)
    script = read(text)
    assert not script.problem
    names = {command.words[0].source for command in script.commands if command.words}
    certain = {c.words[0].source for c in script.commands if c.words and c.is_certain} & set(NAMES)
    really = set(called.read_text().split())
    assert really <= names, text
    assert certain <= really, text


TESTS = [
    "[ -f /etc/passwd ]", "[ -d /etc/passwd ]", "[ -d /etc ]", "[ -e /no/such ]", "test -x /bin/sh",
    "test -s /etc/passwd",
    "[ -r /etc/passwd ]", "[ ! -e /no/such ]", '[ -n "$HERE" ]', '[ -z "$HERE" ]', '[ -z "$NOT_HERE_AT_ALL" ]',
    '[ "$HERE" = there ]', '[ "$HERE" != there ]', "[ a = a ]", "[ 10 -gt 9 ]", "[ 10 -le 9 ]", "[ 3 -eq 3 ]",
    "[ 3 -ne 3 ]",
    '[ "$ONE" -ge 1 ]', "[ ]", "[ text ]", '[ "" ]', "command -v sh", "command -v no-such-command", "type cd",
    '[ "$(uname -s)" = Linux ]', '[ "$(uname -m)" = sparc ]', '[ "${NOT_HERE_AT_ALL:-usual}" = usual ]',
    '[ "${HERE:-usual}" = usual ]', "[ -f $ETC/passwd ]", "! [ -d /etc ]", "[ '$HERE' = there ]", '[ -x "/bin/sh" ]',
    '[ "a b" = a\\ b ]', "[ -d /etc/ ]",
]  # fmt: skip


@pytest.mark.parametrize("text", TESTS)
def test_what_a_script_asks_about_is_answered_as_the_shell_does(text: str) -> None:
    environment = {"PATH": os.environ["PATH"], "HERE": "there"}
    script = f"ETC=/etc\nONE=1\n{text}\n"
    ran = subprocess.run([SHELL, "-c", script], env=environment, capture_output=True, check=False)
    machine = open_machine(None, environment=environment, current="/")
    [check] = foresee_script(machine, read(script)).checks
    assert check.holds is (ran.returncode == 0), check


INSTALLER = """\
#!/bin/sh
PREFIX=${PREFIX:-/opt/tidebook}
. /etc/tidebook.conf
command -v gaugectl >/dev/null || exit 1
[ -d "$PREFIX" ] || mkdir -p "$PREFIX"
case $(uname -m) in x86_64) tide-unpack ;; *) echo "no build"; exit 2 ;; esac
tail -n +8 "$0" | tar -xz -C "$PREFIX"; exit 0
"""


def test_an_installer_that_carries_its_files_is_looked_into_and_unpacked(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path
) -> None:
    linux.program("/bin/sh").program("/usr/bin/tail").file("/usr/bin/tar", b"", 0o755).file(
        "/usr/bin/uname", b"", 0o755
    )
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w:gz") as archive:
        for name, data in (
            ("tide/setup.ini", b"[setup]\nruntime = 4\n"),
            ("tide/chart.zip", b"PK\x05\x06" + bytes(18)),
        ):
            member = tarfile.TarInfo(name)
            member.size = len(data)
            archive.addfile(member, io.BytesIO(data))
    setup = tmp_path / "setup.run"
    setup.write_bytes(INSTALLER.encode() + packed.getvalue())
    ran = fundamen("installer", "--machine", linux.root, "--env", "PATH=/usr/bin:/bin", setup, "--json")
    [found] = ran.records
    assert (ran.status, found["kind"], found["faults"]) == (1, "shell script", 1)
    assert {need["text"]: (need["field"], need["is_met"]) for need in found["needs"]} == {
        "uname": ("calls", True), "tail": ("calls", True), "tar": ("calls", True), "mkdir": ("may call", False),
        "tide-unpack": ("may call", False), "/etc/tidebook.conf": ("reads", False),
    }  # fmt: skip
    assert [(check["what"], check["holds"]) for check in found["checks"]] == [
        ("line 4", False), ("line 5", False), ("line 6", True),
    ]  # fmt: skip
    assert (found["variables"], found["steering"]) == ([], ["/etc/tidebook.conf", "tide/setup.ini"])
    assert [each["path"] for each in found["bundled"]] == ["tide/setup.ini", "tide/chart.zip"]
    unpacked = fundamen("installer", setup, "--unpack", "copy", "--edit", "tide/setup.ini", "setup/runtime", "4.2")
    assert (unpacked.status, "The original has no signature" in " ".join(unpacked.out.split())) == (0, True), (
        unpacked.err
    )
    assert (tmp_path / "copy/tide/setup.ini").read_text() == "[setup]\nruntime = 4.2\n"
    (tmp_path / "x.py").write_text("#!/usr/bin/python3\n")
    assert fundamen("installer", "x.py").status == 3


@given(st.binary(max_size=300), st.integers(0, len(INSTALLER)))
def test_any_bytes_are_read_or_reported_as_a_problem(data: bytes, cut: int) -> None:
    script = read(INSTALLER.encode()[:cut] + data)
    assert len(script.commands) < 1000
    deep = read("$(" * 5000 + "(" * 5000)
    assert deep.problem
