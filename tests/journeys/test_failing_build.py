"""A makefile that fails for want of a static library, then for a misread name, and then goes through."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

needs_tools = pytest.mark.skipif(not all(map(shutil.which, ("cc", "make", "ar"))), reason="no compiler or make")

MAKEFILE = """# The berth plan's tools.
LIBS = -Lparts -lsaltgrass -ltida1

tidebook: main.o
\tcc -o tidebook main.o $(LIBS)
"""


def fundamen(folder: Path, *words: str, answer: str = "") -> tuple[int, Any]:
    run = subprocess.run(
        [sys.executable, "-m", "fundamen", "build", "--json", *words],
        cwd=folder,
        input=answer,
        capture_output=True,
        text=True,
        env={**os.environ, "FUNDAMEN_HOME": str(folder / "home")},
        check=False,
    )
    return run.returncode, json.loads(run.stdout)


def make(folder: Path) -> tuple[int, str]:
    environment = {**os.environ, "LC_ALL": "C"}
    run = subprocess.run(["make"], cwd=folder, capture_output=True, text=True, env=environment, check=False)
    return run.returncode, run.stdout + run.stderr


@needs_tools
def test_a_failing_link_is_repaired_step_by_step(tmp_path: Path) -> None:
    (tmp_path / "Makefile").write_text(MAKEFILE)
    calls = "int salt_depth(void); int tide_now(void);\nint main(void) { return salt_depth() + tide_now(); }\n"
    (tmp_path / "main.c").write_text(calls)
    for name, function, where in (("saltgrass", "salt_depth", "unpacked/lib"), ("tidal", "tide_now", "parts")):
        (tmp_path / where).mkdir(parents=True)
        (tmp_path / f"{name}.c").write_text(f"int {function}(void) {{ return 0; }}\n")
        subprocess.run(["cc", "-c", f"{name}.c"], cwd=tmp_path, check=True)
        subprocess.run(["ar", "rcs", f"{where}/lib{name}.a", f"{name}.o"], cwd=tmp_path, check=True)

    status, answer = make(tmp_path)
    assert status != 0
    status, record = fundamen(tmp_path, "-", answer=answer)
    assert (status, record["faults"]) == (1, 2)  # make said the same; both are named at once
    [step] = record["steps"]
    by_name = {need["name"]: need for need in step["needs"] if need["fault"]}
    assert step["target"] == "tidebook"

    # The static library lies in the unpacked package, where no linker looks.
    [lying] = by_name["-lsaltgrass"]["elsewhere"]
    shutil.copy(lying, tmp_path / "parts")
    status, answer = make(tmp_path)
    assert status != 0
    status, record = fundamen(tmp_path, "-", answer=answer)
    [step] = record["steps"]
    [fault] = [need for need in step["needs"] if need["fault"]]

    # The other is a misread name, reported with the line of the makefile that has it.
    [place], [right] = fault["spelled_at"], fault["near"]
    name, number = place.split(":")
    lines = (tmp_path / name).read_text().splitlines(keepends=True)
    lines[int(number) - 1] = lines[int(number) - 1].replace(fault["name"], right)
    (tmp_path / name).write_text("".join(lines))

    status, answer = make(tmp_path)
    assert (status, answer.count("error")) == (0, 0)
    assert subprocess.run([tmp_path / "tidebook"], check=False).returncode == 0
    (tmp_path / "tidebook").unlink()
    status, record = fundamen(tmp_path, "--make", "tidebook")
    assert (status, record["faults"]) == (0, 0)
