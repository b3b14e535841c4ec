import shutil
import subprocess
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.damage import changed_at_each
from builders.pe import a_pe
from fundamen.demo.world import BINARIES
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import Pe, read_pe
from fundamen.formats.windows.pe_exports import read_exports
from fundamen.formats.windows.pe_imports import read_imported_functions
from fundamen.formats.windows.pe_version import read_version
from fundamen.model.binary import BinaryKind, Necessity
from fundamen.model.errors import DamagedFileError, FundamenError

LIBRARY = (BINARIES / "windows-x86_64" / "saltgrass-tide.dll").read_bytes()


def read(data: bytes) -> Pe:
    return read_pe(MemoryBytes(data))


@pytest.mark.parametrize("architecture", ["x86", "x86_64", "aarch64"])
def test_both_widths_are_read(architecture: str) -> None:
    data = a_pe(architecture, needs=("A.dll", "b.dll"), delayed=("late.dll",), name="x.dll", exports=("One", "Two"))
    pe = read(data)
    assert (pe.architecture, pe.is_pe32_plus, pe.kind, pe.name) == (
        architecture,
        architecture != "x86",
        BinaryKind.LIBRARY,
        "x.dll",
    )
    expected = [("A.dll", Necessity.REQUIRED), ("b.dll", Necessity.REQUIRED), ("late.dll", Necessity.DELAYED)]
    assert [(need.name, need.how) for need in pe.needs] == expected
    exports = read_exports(MemoryBytes(data), pe)
    assert (exports.all_names(), exports.base, exports.index_of("Two", None)) == (("One", "Two"), 1, 1)
    assert pe.is_intact


@pytest.mark.parametrize("file", sorted(BINARIES.glob("windows-*/*")), ids=lambda f: f"{f.parent.name}/{f.name}")
def test_imports_are_what_objdump_tells(file: Path) -> None:
    dump = shutil.which("x86_64-w64-mingw32-objdump") or shutil.which("objdump") or ""
    answer = subprocess.run([dump, "-p", file], capture_output=True, text=True, check=False).stdout if dump else ""
    if "DLL Name" not in answer and "Export" not in answer:
        pytest.skip("no objdump that reads PE files")
    pe = read(file.read_bytes())
    names = [line.split(": ")[1].strip() for line in answer.splitlines() if line.strip().startswith("DLL Name:")]
    assert [need.name for need in pe.needs] == names
    assert pe.is_intact


def test_a_file_cut_at_any_length_is_refused_or_reported_as_damaged() -> None:
    signature_end = LIBRARY.find(b"PE\0\0") + 4
    for length in range(2, signature_end):
        with pytest.raises(DamagedFileError):
            read(LIBRARY[:length])
    for length in range(signature_end, len(LIBRARY)):
        assert read(LIBRARY[:length]).problems, f"cut at {length}"


def test_a_file_changed_at_any_byte_is_read_or_refused_and_nothing_else(*, every_value: bool) -> None:
    for changed in changed_at_each(LIBRARY, range(len(LIBRARY)), every_value=every_value):
        with suppress(FundamenError):
            binary = read_binary(MemoryBytes(changed))
            assert isinstance(binary, Pe)
            read_exports(MemoryBytes(changed), binary)


@given(st.binary(max_size=400), st.integers(0, 1500))
def test_random_bytes_are_read_or_refused(noise: bytes, at: int) -> None:
    for data in (b"MZ" + noise, LIBRARY[:at] + noise + LIBRARY[at + len(noise) :]):
        with suppress(DamagedFileError):
            read(data)


def test_an_import_table_without_an_end_is_bounded() -> None:
    pe = read(a_pe(needs=tuple(f"library{number}.dll" for number in range(5000))))
    assert (pe.needs, pe.problems[0].place) == ((), "import table")
    assert "no end within 4096" in pe.problems[0].reason


def test_the_first_generation_of_delay_imports_is_read_by_address() -> None:
    data = bytearray(a_pe("x86", delayed=("late.dll",)))
    at = data.find((1).to_bytes(4, "little"), 0x400)
    name_rva = int.from_bytes(data[at + 4 : at + 8], "little")
    data[at : at + 8] = bytes(4) + (0x400000 + name_rva).to_bytes(4, "little")
    assert [need.name for need in read(bytes(data)).needs] == ["late.dll"]


def test_an_old_program_without_a_pe_header_is_refused() -> None:
    with pytest.raises(DamagedFileError, match="PE signature"):
        read(b"MZ" + bytes(58) + (64).to_bytes(4, "little") + b"NE\0\0" + bytes(100))


def test_the_version_resource_is_read_in_numbers_and_words() -> None:
    data = a_pe(name="x.dll", version=(4, 2, 1, 700))
    info = read_version(MemoryBytes(data), read(data))
    assert info is not None
    assert (info.file_version, info.product_version) == ("4.2.1.700", "4.2.1.700")
    assert info.strings == {"ProductVersion": "4.2.1.700"}
    assert read_version(MemoryBytes(LIBRARY), read(LIBRARY)) is None


def test_a_changed_version_resource_is_read_or_refused_and_ends() -> None:
    data = a_pe(name="x.dll", version=(4, 2, 1, 700))
    start = data.index(b"V\0S\0_\0") - 100
    for at in range(start, start + 400):
        for value in (0x00, 0x01, 0x7F, 0xFF):
            changed = MemoryBytes(data[:at] + bytes([value]) + data[at + 1 :])
            with suppress(DamagedFileError):
                read_version(changed, read_pe(changed))


def test_a_library_with_fifty_thousand_names_is_read_whole() -> None:
    names = tuple(f"Function{number:05}" for number in range(50_000))
    data = a_pe(name="x.dll", exports=names)
    exports = read_exports(MemoryBytes(data), read(data))
    assert exports.all_names() == names
    assert exports.index_of(None, 50_000) == 49_999
    assert exports.index_of(None, 50_001) is None


def test_imported_functions_are_read_by_name_and_by_number() -> None:
    for architecture in ("x86", "x86_64"):
        data = a_pe(architecture, needs={"a.dll": ("One", 7), "b.dll": ()}, delayed={"c.dll": ("Late",)})
        pe = read(data)
        functions = {i.name: read_imported_functions(MemoryBytes(data), pe, i) for i in pe.imports}
        assert {name: [str(f) for f in found] for name, found in functions.items()} == {
            "a.dll": ["One", "#7"],
            "b.dll": [],
            "c.dll": ["Late"],
        }
