"""A survey of this host finds what Debian's own verification finds, and a capture of it answers as the host itself."""

import json
import subprocess
from pathlib import Path

import pytest

from conftest import Fundamen

pytestmark = pytest.mark.system


def test_installed_files_are_found_altered_as_dpkg_itself_finds_them(fundamen: Fundamen, tmp_path: Path) -> None:
    empty = tmp_path / "empty"
    empty.mkdir()
    [found] = fundamen("survey", "--depth", "all", empty, "--json").records
    verified = subprocess.run(
        ["dpkg", "--verify"], capture_output=True, text=True, errors="surrogateescape", check=False
    )
    theirs = {line.partition(" /")[2]: line.startswith("missing") for line in verified.stdout.splitlines()}
    ours = {each["path"][1:]: each["finding"] == "missing" for each in found["altered"]}
    assert ours == theirs
    assert found["compared"] > 10_000
    [again] = fundamen("survey", "--depth", "all", empty, "--json").records
    assert again["altered"] == found["altered"]
    assert again["read"] < found["read"] / 100


def test_a_capture_of_all_programs_answers_each_trace_as_the_host_does(fundamen: Fundamen, tmp_path: Path) -> None:
    programs = []
    for path in sorted(Path("/usr/bin").iterdir()):
        if path.is_file():
            with path.open("rb") as file:
                if file.read(4) == b"\x7fELF":
                    programs.append(str(path))
    made = fundamen("capture", "host.capture", *programs, "--yes", "-q")
    assert made.status == 0, made.err
    here = fundamen("trace", "--json", *programs).records
    there = fundamen("trace", "--json", "-m", tmp_path / "host.capture", *programs).records
    for record in (*here, *there):
        record.pop("next", None)
    assert len(here) == len(programs) > 100
    different = [one["path"] for one, other in zip(here, there, strict=True) if json.dumps(one) != json.dumps(other)]
    assert different == []
