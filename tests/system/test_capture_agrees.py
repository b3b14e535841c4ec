"""A capture of this host tells of every program of /usr/bin what the host itself tells; likewise the shell's."""

import subprocess
from pathlib import Path

import pytest

from conftest import Fundamen
from fundamen.formats.unix.elf import MAGIC

pytestmark = pytest.mark.system


def programs() -> list[str]:
    found = []
    for path in sorted(Path("/usr/bin").iterdir()):
        if path.is_file():
            with path.open("rb") as file:
                if file.read(len(MAGIC)) == MAGIC:
                    found.append(str(path))
    return found


def components(fundamen: Fundamen, *words: str) -> dict[str, object]:
    return {each["path"]: each["components"] for each in fundamen("trace", *words, "--json", *programs()).records}


def test_of_every_program(fundamen: Fundamen) -> None:
    assert fundamen("capture", "host.capture", "--all", "--yes").status == 0
    there, here = components(fundamen, "-m", "host.capture"), components(fundamen)
    assert len(here) > 100
    assert [path for path in here if there.get(path) != here[path]] == []


def test_of_twenty_programs_that_a_shell_has_gathered(fundamen: Fundamen, tmp_path: Path) -> None:
    chosen = programs()[:: max(1, len(programs()) // 20)]
    (tmp_path / "gather.sh").write_text(fundamen("capture", "--script").out)
    with (tmp_path / "host.gathered").open("wb") as file:
        subprocess.run(["sh", tmp_path / "gather.sh", *chosen], stdout=file, check=True)
    assert fundamen("capture", "host.capture", "--from", "host.gathered", "--yes").status == 0
    there = fundamen("trace", "-m", "host.capture", "--json", *chosen).records
    here = fundamen("trace", "--json", *chosen).records
    pairs = zip(here, there, strict=True)
    assert [own["path"] for own, other in pairs if own["components"] != other["components"]] == []
