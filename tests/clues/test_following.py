"""Logs that are still written, not there yet, moved away, emptied, in any encoding: each new line is read once."""

import os
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from conftest import Fundamen
from fundamen.clues.following import FollowedLog, is_called_out
from fundamen.clues.reading import Reader
from fundamen.clues.scanning import Scanner
from fundamen.knowledge.entries import load_knowledge

KNOWN = load_knowledge()
SCANNER = Scanner(KNOWN)


def missing(name: str) -> str:
    return (
        f"ERROR tidebook: error while loading shared libraries: {name}: cannot open shared object file: No such file\n"
    )


Look = Callable[[], list[str]]


@pytest.fixture
def follow() -> Iterator[Callable[..., Look]]:
    """Gives for a log a function that looks at it once more, and tells which components were called out."""
    logs: list[FollowedLog] = []

    def begun(path: Path, *, from_start: bool = False) -> Look:
        log = FollowedLog(str(path), Reader(KNOWN, SCANNER, "log"), from_start=from_start)
        logs.append(log)
        return lambda: [finding.holes["component"] for finding in log.look() if is_called_out(finding)]

    yield begun
    for log in logs:
        log.finish()


def append(path: Path, text: str, encoding: str = "utf-8") -> None:
    with path.open("ab") as file:
        file.write(text.encode(encoding))


def test_a_log_that_is_not_there_yet_is_read_from_its_beginning(follow: Callable[..., Look], tmp_path: Path) -> None:
    look = follow(tmp_path / "log")
    assert look() == []
    append(tmp_path / "log", missing("liba.so.1"))
    assert (look(), look()) == (["liba.so.1"], [])


@pytest.mark.parametrize("from_start", [False, True])
def test_what_stood_in_a_log_before_is_read_only_where_it_is_asked_for(
    follow: Callable[..., Look], tmp_path: Path, *, from_start: bool
) -> None:
    append(tmp_path / "log", missing("liba.so.1"))
    look = follow(tmp_path / "log", from_start=from_start)
    append(tmp_path / "log", missing("libb.so.1"))
    assert look() == (["liba.so.1", "libb.so.1"] if from_start else ["libb.so.1"])


def test_a_log_that_is_moved_away_and_begun_again_loses_no_line(follow: Callable[..., Look], tmp_path: Path) -> None:
    path = tmp_path / "log"
    look = follow(path)
    append(path, "INFO begins well\n")
    look()
    append(path, missing("liba.so.1"))
    path.rename(tmp_path / "log.1")
    append(tmp_path / "log.1", missing("libb.so.1").rstrip("\n"))  # its last line was never ended
    append(path, missing("libc.so.1"))
    assert look() == ["liba.so.1", "libb.so.1", "libc.so.1"]


def test_a_log_that_is_emptied_is_read_from_its_new_beginning(follow: Callable[..., Look], tmp_path: Path) -> None:
    path = tmp_path / "log"
    append(path, "INFO filler that is longer than what comes\n" * 9)
    look = follow(path)
    path.write_text(missing("liba.so.1"))
    assert look() == ["liba.so.1"]


@pytest.mark.parametrize("encoding", ["utf-16-le", "utf-16-be", "cp1252"])
@pytest.mark.parametrize("piece", [1, 7, 4096])
def test_each_encoding_is_followed_in_pieces_of_any_size(
    follow: Callable[..., Look], tmp_path: Path, encoding: str, piece: int
) -> None:
    path = tmp_path / "log"
    append(path, "INFO für Tidebook\r\n" * 3, encoding)
    look = follow(path)
    data = ("INFO größer\r\n" + missing("liba.so.1")).encode(encoding)
    found = []
    for at in range(0, len(data), piece):
        with path.open("ab") as file:
            file.write(data[at : at + piece])
        found += look()
    assert found == ["liba.so.1"]


@pytest.mark.parametrize("ending", ["--until", "--until-file", "--until-exit", "--for"])
def test_the_built_command_calls_out_the_line_and_ends_by_itself_with_a_summary(
    fundamen: Fundamen, tmp_path: Path, ending: str
) -> None:
    script = f"""
import time
time.sleep(0.4)
open("new.log", "w").write({missing("liba.so.1")!r} + "all is said\\n")
time.sleep(1.4)
open("ended", "w").close()
"""
    with subprocess.Popen([sys.executable, "-c", script], cwd=tmp_path) as writer:
        what = {"--until": "all is said", "--until-file": "ended", "--until-exit": str(writer.pid), "--for": "1.6"}[
            ending
        ]
        ran = fundamen("clues", "--only-read", "--follow", "--from-start", ending, what, "new.log", "never.log")
    assert ran.status == 1, ran.err
    assert ran.out.startswith("new.log:1\n")
    assert ran.out.count("in the folders that it searches") == 2  # as it came, and in the summary
    assert "Ended after" in ran.err


def test_the_first_ctrl_c_ends_it_with_the_summary(fundamen: Fundamen, tmp_path: Path, home: Path) -> None:
    # Where the tests run in the background Ctrl-C is ignored, and so it would be by what they start.
    heeding = (
        "import os, signal, sys; signal.signal(signal.SIGINT, signal.SIG_DFL); os.execv(sys.argv[1], sys.argv[1:])"
    )
    command = str(Path(sys.executable).parent / "fundamen")
    with subprocess.Popen(
        [sys.executable, "-c", heeding, command, "clues", "--only-read", "--follow", "a.log"],
        cwd=tmp_path, env={**os.environ, "FUNDAMEN_HOME": str(home)},
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    ) as process:  # fmt: skip
        try:
            assert process.stderr is not None
            assert process.stdout is not None
            begun = process.stderr.readline()
            append(tmp_path / "a.log", missing("liba.so.1"))
            called = process.stdout.readline()
            process.send_signal(signal.SIGINT)
            out, err = process.communicate(timeout=20)
        finally:
            process.kill()
    assert (begun[:9], called) == ("Following", "a.log:1\n")
    assert (
        process.returncode,
        out.count("liba.so.1") >= 2,
        "stopped" in err,
    ) == (1, True, True), err
    assert fundamen("clues", "--follow", "-").status == 2
