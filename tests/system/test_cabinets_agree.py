"""Cabinets packed with LZX in every way that the format allows: another unpacker gives the same bytes as ours."""

import random
import shutil
import subprocess
from pathlib import Path

import pytest

from builders.lzx import an_lzx_cabinet
from fundamen.formats.cabinet_files import unpack_cabinet
from fundamen.formats.cursor import MemoryBytes

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
