"""Scripts and classes are really run: a trace finds a fault exactly where the kernel, env or Java refuse them."""

import glob
import os
import shutil
import stat
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.trace.trace import trace_program

pytestmark = [pytest.mark.system, pytest.mark.skipif(sys.platform != "linux", reason="Linux's rule")]

REFUSED = {126, 127}


def script(folder: Path, text: str, mode: int = 0o755) -> Path:
    path = folder / "run me"
    path.write_bytes(text.replace("HERE", str(folder)).encode())
    path.chmod(mode)
    return path


def by_tool(folder: Path, text: str, mode: int = 0o755, *, hands_over: bool = False) -> Path:
    """A script whose interpreter, or what a shell hands it over to, is another file beside it."""
    (folder / "tool").write_text(text)
    (folder / "tool").chmod(mode)
    return script(folder, HANDING_OVER if hands_over else "#!HERE/tool\n")


def by_scripts(folder: Path, count: int) -> Path:
    """A script that leads to another, and so on; the last one leads to the shell."""
    for number in range(1, count + 1):
        leads_to = "/bin/sh" if number == count else f"{folder}/{number + 1}"
        (folder / str(number)).write_text(f"#!{leads_to}\nexit 0\n")
        (folder / str(number)).chmod(0o755)
    return script(folder, "#!HERE/1\n")


def of_environment(folder: Path, *, is_broken: bool) -> Path:
    """A script of a Python environment, whose interpreter may have gone away."""
    base = folder / "base"
    base.mkdir()
    (base / "python3").symlink_to(os.path.realpath(sys.executable))
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", "--symlinks", folder / "env"], check=True)
    for link in (folder / "env/bin").glob("python*"):
        link.unlink()
    (folder / "env/bin/python").symlink_to(base / "python3")
    if is_broken:
        shutil.rmtree(base)
    return script(folder, "#!HERE/env/bin/python\nraise SystemExit\n")


HANDING_OVER = "#!/bin/sh\n'''exec' HERE/tool \"$0\" \"$@\"\n' '''\n"
ENDS_WELL = "#!/bin/sh\nexit 0\n"
CASES: dict[str, Callable[[Path], Path]] = {
    "a plain one": lambda f: script(f, ENDS_WELL),
    "with an argument and blanks": lambda f: script(f, "#!  /bin/sh -e \nexit 0\n"),
    "with no interpreter there": lambda f: script(f, "#!/bin/no-such-shell\n"),
    "with a carriage return": lambda f: script(f, "#!/bin/sh\r\nexit 0\r\n"),
    "with a carriage return behind an argument": lambda f: script(f, "#!/usr/bin/env sh\r\nexit 0\r\n"),
    "that nobody may run": lambda f: script(f, "#!/bin/sh\n", 0o644),
    "whose interpreter is a folder": lambda f: script(f, "#!/etc\n"),
    "by env": lambda f: script(f, "#!/usr/bin/env sh\nexit 0\n"),
    "by env, of a command that is nowhere": lambda f: script(f, "#!/usr/bin/env no-such-command\n"),
    "by env, with its words split": lambda f: script(f, "#!/usr/bin/env -S A=1 sh -e\nexit 0\n"),
    "by env, with a word too many": lambda f: script(f, "#!/usr/bin/env sh -e\nexit 0\n"),
    "by a script": lambda f: by_tool(f, ENDS_WELL),
    "by a script whose interpreter is nowhere": lambda f: by_tool(f, "#!/bin/no-such-shell\n"),
    "by a script that nobody may run": lambda f: by_tool(f, ENDS_WELL, 0o644),
    "by four scripts in a row": lambda f: by_scripts(f, 4),
    "by five scripts in a row": lambda f: by_scripts(f, 5),
    "by six scripts in a row": lambda f: by_scripts(f, 6),
    "by itself": lambda f: by_tool(f, "#!HERE/tool\n".replace("HERE", str(f))),
    "by a file of text": lambda f: by_tool(f, "Dear kernel,\n"),
    "handed over by a shell": lambda f: by_tool(f, ENDS_WELL, hands_over=True),
    "handed over to what is nowhere": lambda f: script(f, HANDING_OVER),
    "of a Python environment": lambda f: of_environment(f, is_broken=False),
    "of a Python environment whose interpreter has gone": lambda f: of_environment(f, is_broken=True),
}


@pytest.mark.parametrize("case", CASES)
def test_a_script_is_refused_exactly_where_a_fault_is_found(case: str, tmp_path: Path) -> None:
    path = CASES[case](tmp_path)
    try:
        status = subprocess.run([path], capture_output=True, check=False, stdin=subprocess.DEVNULL).returncode
    except OSError:  # execve itself refused it
        status = 127
    machine = open_machine(None, environment=dict(os.environ), current="/")
    trace = trace_program(machine, MachinePath(str(path)))
    assert bool(trace.faults) == (status in REFUSED), (status, [fault.reason for fault in trace.faults])


def javas() -> list[Path]:
    return sorted(
        {Path(os.path.realpath(home)) for home in glob.glob("/usr/lib/jvm/*") if Path(home, "bin/javac").exists()}
    )


@pytest.mark.skipif(not javas(), reason="no Java compiler")
@pytest.mark.parametrize("too_new", [False, True])
def test_java_refuses_classes_exactly_where_a_fault_is_found(tmp_path: Path, *, too_new: bool) -> None:
    home = javas()[0]
    (tmp_path / "Tide.java").write_text("public class Tide { public static void main(String[] a) {} }")
    subprocess.run([home / "bin/javac", "Tide.java"], cwd=tmp_path, check=True)
    code = bytearray((tmp_path / "Tide.class").read_bytes())
    code[7] += too_new
    with zipfile.ZipFile(tmp_path / "tide.jar", "w") as archive:
        archive.writestr("META-INF/MANIFEST.MF", "Manifest-Version: 1.0\nMain-Class: Tide\n")
        archive.writestr("Tide.class", bytes(code))
    path = f"{home}/bin:/usr/bin:/bin"
    run = subprocess.run(
        ["java", "-jar", "tide.jar"], cwd=tmp_path, env={"PATH": path}, capture_output=True, check=False
    )
    assert (run.returncode != 0) == too_new
    assert (b"UnsupportedClassVersionError" in run.stderr) == too_new
    machine = open_machine(None, environment={"PATH": path}, current="/")
    trace = trace_program(machine, MachinePath(str(tmp_path / "tide.jar")))
    assert bool(trace.faults) == too_new, [fault.reason for fault in trace.faults]
    if not too_new:
        assert {os.path.basename(c.name) for c in trace.components} >= {"libjvm.so", "libjli.so"}


def test_every_script_of_this_machine_names_an_interpreter_that_is_there_exactly_where_it_can_be_run() -> None:
    machine = open_machine(None, environment=dict(os.environ), current="/")
    compared = 0
    for name in sorted(os.listdir("/usr/bin")):
        path = Path("/usr/bin") / name
        line = path.read_bytes().partition(b"\n")[0] if path.is_file() else b""
        if not line.startswith(b"#!") or not path.stat().st_mode & stat.S_IXUSR:
            continue
        words = line[2:].split()
        is_there = Path(os.fsdecode(words[0])).exists() and (
            not words[0].endswith(b"/env") or shutil.which(os.fsdecode(words[1])) is not None
        )
        faults = trace_program(machine, MachinePath(str(path))).faults
        assert any(fault.kind == "interpreter" for fault in faults) != is_there, (path, faults)
        compared += 1
    assert compared > 50
