import contextlib
import struct
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.damage import changed_at_each
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.mac.macho import MachO, read_macho
from fundamen.formats.mac.macho_imports import Import, read_imports
from fundamen.formats.mac.macho_signature import find_altered_page, read_signature
from fundamen.formats.mac.macho_symbols import read_exports
from fundamen.model.architecture import Architecture
from fundamen.model.binary import BinaryKind, Format, Necessity
from fundamen.model.errors import DamagedFileError, FundamenError

UNIVERSAL = (Path(__file__).parent.parent / "data" / "libsaltmac.dylib").read_bytes()  # its source lies beside it
SLICES = read_macho(MemoryBytes(UNIVERSAL)).slices
INTEL, ARM = (UNIVERSAL[part.offset : part.offset + part.size] for part in SLICES)


def read_all(data: bytes) -> MachO:
    """Everything that is read of a Mach-O file."""
    source = MemoryBytes(data)
    macho = read_macho(source)
    for part in macho.slices:
        for reader in (read_imports, read_exports):
            with contextlib.suppress(FundamenError):
                reader(source, part)
        with contextlib.suppress(FundamenError):
            if signature := read_signature(source, part):
                find_altered_page(source, part, signature)
    return macho


def test_a_universal_library_says_what_each_slice_is() -> None:
    macho = read_binary(MemoryBytes(UNIVERSAL))
    assert isinstance(macho, MachO)
    assert (macho.kind, macho.architecture, macho.also_for) == (
        BinaryKind.LIBRARY,
        Architecture.X86_64,
        (Architecture.AARCH64,),
    )
    assert [(need.name, need.how) for need in macho.needs] == [
        ("@rpath/libbuoy.dylib", Necessity.OPTIONAL),
        ("/usr/lib/libSystem.B.dylib", Necessity.REQUIRED),
    ]
    for part in macho.slices:
        assert (part.install_name, part.version, part.compatibility) == ("@rpath/libsaltmac.dylib", "4.2.1", "4.0.0")
        assert (part.run_paths, part.minimum_os, part.sdk) == (("@loader_path/parts",), "11.0", "14.0")
    assert macho.is_intact


def test_each_import_names_its_library_and_when_it_is_bound() -> None:
    for part in SLICES:
        imports = read_imports(MemoryBytes(UNIVERSAL), part)
        assert Import("_buoy_depth", 1, Necessity.OPTIONAL) in imports
        assert Import("_whoever_has_it", -2, Necessity.DELAYED) in imports
        assert read_exports(MemoryBytes(UNIVERSAL), part) == ("_salt_depth", "_salt_tide")


def test_the_import_table_of_chained_fixups_is_read_in_each_of_its_forms() -> None:
    names = b"\0_tide\0_berth\0"
    for kind, record in ((1, "<I"), (2, "<Ii"), (3, "<QQ")):
        packed = [
            struct.pack(record, *fields[: len(record) - 1])
            for fields in (
                ((1 | 1 << (9 if kind < 3 else 32)), 0),
                ((0xFE if kind < 3 else 0xFFFE) | 1 << (8 if kind < 3 else 16) | 7 << (9 if kind < 3 else 32), 0),
            )
        ]
        table = b"".join(packed)
        blob = struct.pack("<7I", 0, 28, 28, 28 + len(table), 2, kind, 0) + table + names
        command = struct.pack("<4I", 0x80000034, 16, 32 + 16, len(blob))
        header = bytes.fromhex("cffaedfe") + struct.pack("<6II", 0x0100000C, 0, 6, 1, len(command), 0x80, 0)
        source = MemoryBytes(header + command + blob)
        [part] = read_macho(source).slices
        assert read_imports(source, part) == (
            Import("_tide", 1, Necessity.REQUIRED),
            Import("_berth", -2, Necessity.OPTIONAL),
        )


def test_a_signature_knows_every_page() -> None:
    [part] = read_macho(MemoryBytes(ARM)).slices
    signature = read_signature(MemoryBytes(ARM), part)
    assert signature is not None
    assert part.signature is not None
    assert (signature.is_ad_hoc, signature.covered) == (True, part.signature.offset)
    assert find_altered_page(MemoryBytes(ARM), part, signature) is None
    for at in range(0, signature.covered, 997):
        altered = MemoryBytes(ARM[:at] + bytes([ARM[at] ^ 1]) + ARM[at + 1 :])
        assert find_altered_page(altered, part, signature) == at // signature.page_size


def test_a_file_cut_at_any_length_is_reported_as_damaged() -> None:
    for data, begins, step in ((INTEL, 0x600, 5), (UNIVERSAL, 64, 173)):
        for length in (*range(4, begins), *range(begins, len(data), step)):
            assert read_all(data[:length]).problems, f"cut at {length}"


def test_a_file_changed_at_any_byte_is_read_or_refused_and_nothing_else(*, every_value: bool) -> None:
    [part] = read_macho(MemoryBytes(INTEL)).slices
    tables = range(min(extent.offset for extent in part.bindings), len(INTEL))
    for changed in changed_at_each(INTEL, (*range(0x600), *tables), every_value=every_value):
        read_all(changed)


@given(st.binary(max_size=400), st.sampled_from(["cffaedfe", "feedface", "cafebabe00000002", "cafebabf"]))
def test_random_bytes_behind_a_magic_are_read_or_refused(noise: bytes, magic: str) -> None:
    read_all(bytes.fromhex(magic) + noise)


def test_a_class_file_begins_like_a_universal_file_and_is_none() -> None:
    data = MemoryBytes(bytes.fromhex("cafebabe000000340010") + bytes(100))
    assert read_binary(data).format is Format.JAVA


def test_an_exports_trie_that_leads_back_to_itself_is_refused() -> None:
    [part] = read_macho(MemoryBytes(INTEL)).slices
    assert part.exports_trie is not None
    at = part.exports_trie.offset
    looped = INTEL[:at] + b"\0\1_\0\0".ljust(part.exports_trie.size, b"\0") + INTEL[at + part.exports_trie.size :]
    with pytest.raises(DamagedFileError, match="back to 0"):
        read_exports(MemoryBytes(looped), part)
