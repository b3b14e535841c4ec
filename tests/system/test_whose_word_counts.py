"""No publication or withdrawal makes a verified file of the system's packages a fault."""

import subprocess
from collections import Counter
from pathlib import Path

import pytest

from builders.source import ASource
from conftest import Fundamen

pytestmark = pytest.mark.system

LISTED = 40  # libraries of the system that the source lists


def is_elf(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(4) == b"\x7fELF"


PROGRAMS = [str(path) for path in sorted(Path("/usr/bin").iterdir()) if path.is_file() and is_elf(path)]


def faults(fundamen: Fundamen) -> dict[str, list[tuple[str, str]]]:
    records = fundamen("trace", "--json", *PROGRAMS).records
    return {
        record["path"]: [(each["name"], each["verdict"]) for each in record["components"] if each["fault"]]
        for record in records
        if "components" in record
    }


def most_used() -> dict[str, bytes]:
    """The libraries that most programs load, by the system's own loader, with their bytes."""
    counts: Counter[str] = Counter()
    for program in PROGRAMS[:150]:
        listed = subprocess.run(
            ["/lib64/ld-linux-x86-64.so.2", "--list", program], capture_output=True, text=True, check=False
        ).stdout
        counts.update(line.split()[2] for line in listed.splitlines() if " => /" in line)
    return {Path(path).name: Path(path).read_bytes() for path, _ in counts.most_common(LISTED)}


def of_another_build(data: bytes) -> bytes:
    """The same library with other bytes and the same size: its section names are the compiler's affair."""
    return data.replace(b".shstrtab\0", b".shstrtaB\0")


def test_nothing_that_is_published_or_withdrawn_makes_a_sound_program_a_faulty_one(
    fundamen: Fundamen, tmp_path: Path, home: Path
) -> None:
    before = faults(fundamen)
    assert len(before) > 100
    libraries = most_used()
    others = {name: of_another_build(data) for name, data in libraries.items() if of_another_build(data) != data}
    assert len(others) > LISTED / 2
    source = ASource(tmp_path, home).published(others, "9.9", place="{system}", package="Another build")
    source.trusted()
    assert faults(fundamen) == before
    source.published(libraries, "12", place="{system}", package="Medium")
    assert fundamen("sources", "refresh").status == 0
    for more in ((), ("--untrusted",)):
        words = ("--reason", "superseded", "--keys", source.keys, *more)
        assert fundamen("sources", "withdraw", source.folder, "Medium", "12", *words).status == 0
        assert fundamen("sources", "refresh").status == 0
        assert faults(fundamen) == before
