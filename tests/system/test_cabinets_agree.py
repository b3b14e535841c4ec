"""Cabinets packed with LZX in every way that the format allows: another unpacker gives the same bytes as ours.

And sets of cabinets, as another packer makes them: our unpacker gives what was packed.
"""

import os
import random
import shutil
import subprocess
from pathlib import Path

import pytest

from builders.lzx import an_lzx_cabinet
from builders.prefix import a_prefix
from fundamen.formats.archives.cabinet import cabinets_of_set
from fundamen.formats.archives.cabinet_files import unpack_cabinet
from fundamen.formats.byte_source import MemoryBytes
from fundamen.machine.file_bytes import FileBytes
from fundamen.model.errors import DamagedFileError
from fundamen.model.paths import HostPath

pytestmark = [
    pytest.mark.system,
    pytest.mark.skipif(not shutil.which("cabextract"), reason="no other unpacker"),
]
SIZES = [1, 9, 100, 32767, 32768, 32769, 70_000, 200_000]


@pytest.mark.parametrize("seed", range(40))
def test_ours_and_another_unpacker_give_the_file_that_was_packed(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)  # noqa: S311 - chance, no secret
    real, size = Path("/bin/bash").read_bytes(), chance.choice(SIZES)
    begin = chance.randrange(len(real) - size)
    content = real[begin : begin + size]
    if chance.random() < 0.3:
        content = bytes(chance.choice(b"ab\xe8") for _ in range(size))
    data = an_lzx_cabinet("x.bin", content, chance.randrange(15, 22), seed)
    (tmp_path / "x.cab").write_bytes(data)
    theirs = subprocess.run(["cabextract", "-q", "-p", tmp_path / "x.cab"], capture_output=True, check=True)
    assert theirs.stdout == content, "the cabinet that was built here is none"
    assert [file.read() for _, file in unpack_cabinet(MemoryBytes(data))] == [content]


PACKER = Path("/usr/lib/x86_64-linux-gnu/wine/x86_64-windows/cabarc.exe")


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    """The environment of a prefix's programs."""
    return {**os.environ, "WINEPREFIX": str(a_prefix(tmp_path_factory)), "WINEDEBUG": "-all"}


@pytest.mark.parametrize("method", ["mszip", "none"])
@pytest.mark.parametrize("seed", range(6))
def test_files_that_go_over_the_cabinets_of_a_set_come_out_as_they_were_packed(
    seed: int, method: str, prefix: dict[str, str], tmp_path: Path
) -> None:
    chance = random.Random(seed)  # noqa: S311 - chance, no secret
    files = {}
    for number in range(chance.randint(1, 6)):
        size = chance.choice(SIZES)
        files[f"f{number}.bin"] = chance.choice([Path("/bin/bash").read_bytes()[:size], chance.randbytes(size)])
        (tmp_path / f"f{number}.bin").write_bytes(files[f"f{number}.bin"])
    for disk_size in (chance.choice([20_000, 50_000]), 65_536):  # the packer fails at some sizes
        words = ["-d", str(disk_size), "-m", method, "n", "set*.cab", *files]
        packing: list[str | Path] = ["/usr/lib/wine/wine64", PACKER, *words]
        if not subprocess.run(packing, env=prefix, cwd=tmp_path, capture_output=True, check=False).returncode:
            break
        for path in tmp_path.glob("set*.cab"):
            path.unlink()
    made = sorted(tmp_path.glob("set*.cab"), key=lambda path: int(path.stem[3:]))
    assert made

    def find(name: str) -> FileBytes | None:
        path = tmp_path / name
        return FileBytes(HostPath(str(path)), name) if path.is_file() else None

    begun_at = find(chance.choice(made).name)
    assert begun_at is not None
    cabinets = cabinets_of_set(begun_at, find)
    assert [cabinet.name for cabinet in cabinets] == [path.name for path in made]
    assert {packed.path: data.read() for packed, data in unpack_cabinet(*cabinets)} == files
    if len(made) > 1:
        with pytest.raises(DamagedFileError, match="which is missing"):
            list(unpack_cabinet(*cabinets[:-1]))
