import shutil
import subprocess
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.damage import changed_at_each
from builders.elf import an_elf
from fundamen.demo.world import BINARIES
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.elf import Elf, read_elf
from fundamen.formats.unix.elf_symbols import read_exports
from fundamen.machine.file_bytes import FileBytes
from fundamen.messages import say
from fundamen.model.binary import BinaryKind
from fundamen.model.errors import DamagedFileError, FundamenError
from fundamen.model.paths import HostPath
from wording import says

LIBRARY = (BINARIES / "linux-x86_64" / "libsaltgrass-tide.so.4").read_bytes()
PROGRAM = (BINARIES / "linux-aarch64" / "tidebook").read_bytes()


def read(data: bytes) -> Elf:
    return read_elf(MemoryBytes(data))


@pytest.mark.parametrize(
    ("architecture", "bits", "big_endian"),
    [("x86_64", 64, False), ("x86", 32, False), ("aarch64", 64, False), ("s390x", 64, True), ("ppc", 32, True)],
)
def test_every_class_and_byte_order_is_read(architecture: str, bits: int, *, big_endian: bool) -> None:
    data = an_elf(
        architecture, needs=("liba.so.1", "libb.so"), soname="libx.so.2", runpath="$ORIGIN", exports=("one", "two")
    )
    elf = read(data)
    assert (elf.architecture, elf.bits, elf.big_endian, elf.kind) == (
        architecture,
        bits,
        big_endian,
        BinaryKind.LIBRARY,
    )
    assert ([need.name for need in elf.needs], elf.name) == (["liba.so.1", "libb.so"], "libx.so.2")
    assert (elf.runpath, elf.rpath, elf.interpreter, elf.problems) == ("$ORIGIN", None, None, ())
    assert read_exports(MemoryBytes(data), elf) == ("one", "two")


@pytest.mark.parametrize("file", sorted(BINARIES.glob("linux-*/*")), ids=lambda file: f"{file.parent.name}/{file.name}")
def test_needs_and_names_are_what_readelf_tells(file: Path) -> None:
    if not shutil.which("readelf"):
        pytest.skip("no readelf")
    answer = subprocess.run(["readelf", "-dW", file], capture_output=True, text=True, check=True).stdout
    values = [(line.split()[1], line.partition("[")[2].rstrip("]")) for line in answer.splitlines() if "[" in line]
    elf = read(file.read_bytes())
    assert [need.name for need in elf.needs] == [value for tag, value in values if tag == "(NEEDED)"]
    assert elf.name == next((value for tag, value in values if tag == "(SONAME)"), None)
    assert elf.runpath == next((value for tag, value in values if tag == "(RUNPATH)"), None)
    assert elf.is_intact


def test_a_file_cut_at_any_length_is_reported_as_damaged() -> None:
    for data in (LIBRARY, PROGRAM):
        for length in range(4, len(data)):
            assert read(data[:length]).problems, f"cut at {length}"


def test_a_file_changed_at_any_byte_is_read_or_refused_and_nothing_else(*, every_value: bool) -> None:
    for changed in changed_at_each(LIBRARY, range(len(LIBRARY)), every_value=every_value):
        with suppress(FundamenError):
            binary = read_binary(MemoryBytes(changed))
            assert isinstance(binary, Elf)
            read_exports(MemoryBytes(changed), binary)


@given(st.binary(max_size=600), st.integers(0, 511))
def test_random_bytes_behind_the_magic_are_read_or_refused(noise: bytes, at: int) -> None:
    read(b"\x7fELF" + noise)
    read(LIBRARY[:at] + noise + LIBRARY[at + len(noise) :])


def test_impossible_counts_are_damage_with_place_and_reason() -> None:
    data = bytearray(LIBRARY)
    data[56:58] = b"\xf0\xff"  # e_phnum
    [problem] = read(bytes(data)).problems
    assert problem.place == say("formats.program-header-table")
    assert says(problem.reason, "formats.takes-bytes-to-but-the-file")


def test_a_name_outside_the_string_table_is_not_believed() -> None:
    data = bytearray(an_elf(needs=("liba.so",)))
    at = data.find((1).to_bytes(8, "little") + (1).to_bytes(8, "little"))  # DT_NEEDED, offset 1
    data[at + 8 : at + 16] = (1 << 40).to_bytes(8, "little")
    elf = read(bytes(data))
    assert (elf.needs, elf.problems[0].place) == ((), "dynamic section")


def test_an_undecodable_name_is_kept_to_the_byte() -> None:
    name = b"lib\xff.so".decode("utf-8", "surrogateescape")
    assert read(an_elf(needs=(name,))).needs[0].name.encode("utf-8", "surrogateescape") == b"lib\xff.so"


def test_of_a_large_file_only_a_few_kilobytes_are_read() -> None:
    class Counting(MemoryBytes):
        read_bytes = 0

        def _read(self, offset: int, size: int) -> bytes:
            self.read_bytes += size
            return super()._read(offset, size)

    source = Counting(an_elf(needs=("liba.so",), padding=50_000_000))
    assert read_elf(source).is_intact
    assert source.read_bytes < 16_384


def test_a_hash_table_that_claims_too_much_is_refused() -> None:
    data = bytearray(an_elf(exports=("one",)))
    at = data.find((1).to_bytes(4, "little") + (2).to_bytes(4, "little") + bytes(8))
    data[at + 4 : at + 8] = b"\xff\xff\xff\x7f"
    with pytest.raises(DamagedFileError, match="claims"):
        read_exports(MemoryBytes(bytes(data)), read(bytes(data)))


@pytest.mark.parametrize("offset", [2**31, 2**32, 2**63 - 1, 2**63, 2**64 - 1])
def test_a_note_that_is_said_to_lie_beyond_every_file_is_not_read(offset: int, tmp_path: Path) -> None:
    data = bytearray(LIBRARY)
    count, begin = int.from_bytes(data[56:58], "little"), int.from_bytes(data[32:40], "little")
    segment = begin + 56 * (count - 1)  # the last program header becomes one of a PT_GNU_PROPERTY note
    data[segment : segment + 4] = (0x6474E553).to_bytes(4, "little")
    data[segment + 8 : segment + 16] = offset.to_bytes(8, "little")
    data[segment + 32 : segment + 40] = (48).to_bytes(8, "little")
    path = tmp_path / "libx.so"
    path.write_bytes(data)
    with FileBytes(HostPath(str(path)), "libx.so") as source:
        assert read_elf(source).needed_levels == 0
