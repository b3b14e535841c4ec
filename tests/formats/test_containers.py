"""Containers of every kind give their files; paths that lead elsewhere, bombs and doubles are refused."""

import contextlib
import io
import stat
import struct
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec
import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from builders.lzx import an_lzx_cabinet
from builders.media import FILES, a_cabinet, a_disc_image, a_tar, a_zip
from builders.pe import a_pe
from builders.signing import NOW, APublisher, with_signature
from fundamen.formats.archives.compound_file import CompoundFile
from fundamen.formats.archives.container import ContainerKind, find_container
from fundamen.formats.archives.msi_database import read_database
from fundamen.formats.archives.msi_files import file_paths
from fundamen.formats.archives.tar_archive import unpacked_stream
from fundamen.formats.archives.zstd_frames import require_whole
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import read_pe
from fundamen.model.errors import DamagedFileError
from fundamen.trust.signed_file import judge_file
from wording import says

DATA = Path(__file__).parent.parent / "data"
BUILDERS: dict[ContainerKind, Callable[[Mapping[str, bytes]], bytes]] = {
    ContainerKind.DISC_IMAGE: a_disc_image,
    ContainerKind.TAR: a_tar,
    ContainerKind.ZIP: a_zip,
    ContainerKind.CABINET: a_cabinet,
    ContainerKind.SELF_EXTRACTING: lambda files: a_pe() + a_cabinet(files),
}


def unpacked(data: bytes) -> dict[str, bytes]:
    container = find_container(MemoryBytes(data, "medium"))
    assert container is not None
    return {packed.path: content.read() for packed, content in container.unpack()}


@pytest.mark.parametrize("kind", BUILDERS)
def test_a_container_gives_its_files(kind: ContainerKind) -> None:
    data = BUILDERS[kind](FILES)
    container = find_container(MemoryBytes(data))
    assert container is not None
    assert container.kind is kind
    assert unpacked(data) == dict(FILES)


def test_an_archive_behind_a_program_is_found() -> None:
    assert unpacked(a_pe() + bytes(5000) + a_zip()) == dict(FILES)


def test_files_of_a_cabinet_that_go_over_many_blocks_are_whole() -> None:
    files = {f"{n}.bin": bytes((n * i) % 251 for i in range(40_000)) for n in range(1, 5)}
    assert unpacked(a_cabinet(files)) == files


def test_a_package_gives_its_files_under_the_paths_where_it_puts_them() -> None:
    [(path, data)] = unpacked((DATA / "saltgrass.msi").read_bytes()).items()
    assert (path, data) == ("ProgramFilesFolder/Saltgrass/a.txt", b"hello tide\n")


def test_the_property_of_a_standard_folder_decides_whatever_its_name_is_in_the_table() -> None:
    whole = read_database(CompoundFile(MemoryBytes((DATA / "saltgrass.msi").read_bytes())), "it")
    [file] = whole.tables["File"]
    names = {"SystemFolder": "SystemFolder", "SystemFolder.A1B2C3": "SystemFolder", "ToolFolder": "TARGETDIR/System"}
    for folder, expected in names.items():
        tables = {
            "Directory": (
                {"Directory": "TARGETDIR", "Directory_Parent": None, "DefaultDir": "SourceDir"},
                {"Directory": folder, "Directory_Parent": "TARGETDIR", "DefaultDir": "Sys|System"},
            ),
            "Component": ({"Component": file["Component_"], "Directory_": folder},),
            "File": (file,),
        }
        paths = file_paths(msgspec.structs.replace(whole, tables=tables), "it")
        assert list(paths.values()) == [f"{expected}/a.txt"]


@pytest.mark.parametrize("column", [b"DefaultDir", b"Directory_Parent", b"FileName", b"Component_", b"Cabinet"])
def test_a_package_whose_tables_lack_a_column_is_refused(column: bytes) -> None:
    data = (DATA / "saltgrass.msi").read_bytes()
    assert column in data
    with pytest.raises(DamagedFileError, match="has no column"):
        unpacked(data.replace(column, column[:-1] + b"?"))


@pytest.mark.parametrize("kind", [ContainerKind.TAR, ContainerKind.ZIP, ContainerKind.CABINET])
@pytest.mark.parametrize("name", ["../x", "a/../../x", "a//b", "C:/x"])
def test_a_path_that_leads_elsewhere_is_refused(kind: ContainerKind, name: str) -> None:
    with pytest.raises(DamagedFileError, match="leads elsewhere"):
        unpacked(BUILDERS[kind]({name: b"x"}))


@pytest.mark.parametrize("kind", [ContainerKind.TAR, ContainerKind.ZIP, ContainerKind.CABINET])
def test_names_that_windows_takes_for_one_are_refused(kind: ContainerKind) -> None:
    with pytest.raises(DamagedFileError, match="twice"):
        unpacked(BUILDERS[kind]({"Salt.dll": b"1", "salt.DLL": b"2"}))


def test_a_bomb_is_refused_before_it_is_unpacked() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
        archive.writestr("salt.bin", bytes(1 << 20))
    data = bytearray(out.getvalue())
    entry = data.rfind(b"PK\1\2")
    struct.pack_into("<I", data, entry + 24, 0xF000_0000)  # what it claims to unpack to
    with pytest.raises(DamagedFileError, match="more than any real one"):
        unpacked(bytes(data))


def test_a_link_of_an_archive_is_reported_as_one() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        info = zipfile.ZipInfo("salt.so")
        info.external_attr = (stat.S_IFLNK | 0o777) << 16
        archive.writestr(info, "/etc/passwd")
    container = find_container(MemoryBytes(out.getvalue()))
    assert container is not None
    assert [packed.link for packed, _ in container.unpack()] == ["/etc/passwd"]


@given(
    pieces=st.lists(st.sampled_from([b"tide", b"\xe8\x10\0\0\0", bytes(40), bytes(range(256))]), max_size=900),
    window_bits=st.integers(15, 21),
    chance=st.integers(),
)
def test_a_cabinet_packed_with_lzx_gives_its_file(pieces: list[bytes], window_bits: int, chance: int) -> None:
    content = b"salt" + b"".join(pieces)
    assert unpacked(an_lzx_cabinet("x.bin", content, window_bits, chance)) == {"x.bin": content}


def test_a_cabinet_packed_with_lzx_and_cut_or_changed_is_refused_or_gives_as_much_as_it_claims() -> None:
    content = bytes(range(256)) * 12
    original = an_lzx_cabinet("x.bin", content, 15, 2)
    for at in range(36, len(original)):
        for changed in (original[:at], original[:at] + bytes([original[at] ^ 0x41]) + original[at + 1 :]):
            with contextlib.suppress(DamagedFileError):
                assert [len(data) for data in unpacked(changed).values()] in ([len(content)], [])


def test_a_folder_packed_in_a_way_that_is_not_read_is_reported() -> None:
    data = bytearray(a_cabinet())
    struct.pack_into("<H", data, 36 + 6, 0x1502)
    with pytest.raises(DamagedFileError, match="packed with Quantum"):
        unpacked(bytes(data))


def test_a_block_of_a_cabinet_that_has_not_its_checksum_is_refused() -> None:
    data = bytearray((DATA / "saltgrass.cab").read_bytes())
    assert unpacked(bytes(data))
    [at] = struct.unpack_from("<I", data, struct.unpack_from("<I", data, 16)[0] - 8)
    data[at + 12] ^= 1
    with pytest.raises(DamagedFileError, match="checksum"):
        unpacked(bytes(data))


@given(data=st.data(), kind=st.sampled_from([ContainerKind.TAR, ContainerKind.ZIP, ContainerKind.CABINET]))
def test_a_changed_container_gives_plain_paths_or_is_refused(data: st.DataObject, kind: ContainerKind) -> None:
    original = BUILDERS[kind](FILES)
    at = data.draw(st.integers(0, len(original)))
    changed = original[:at] + data.draw(st.binary(max_size=4)) + original[at + data.draw(st.integers(0, 4)) :]
    try:
        container = find_container(MemoryBytes(changed))
        for packed, content in container.unpack() if container is not None else ():
            assert not {"", ".", ".."} & set(packed.path.split("/"))
            content.read(1 << 16)
    except DamagedFileError:
        return


def test_what_is_hidden_in_a_certificate_table_is_not_taken_for_the_publishers() -> None:
    publisher = APublisher()
    blob = publisher.signature_of(a_pe())
    for smuggled in (a_zip(), a_cabinet()):
        signed = with_signature(a_pe(), blob + smuggled)
        source = MemoryBytes(signed)
        judged = judge_file(source, read_pe(source), publisher.machine_trusts(), NOW)
        assert judged.verdict == "trusted", "bytes in the table are covered by no signature"
        assert says(judged.remarks[0], "trust.bytes-beside-the-signature-are-covered")
        assert find_container(source) is None


def test_what_zstandard_has_packed_is_refused_wherever_it_was_cut() -> None:
    """In several frames, one of them without a size, one to be skipped."""
    streaming = zstandard.ZstdCompressor(write_checksum=True).compressobj()
    whole = zstandard.ZstdCompressor().compress(a_tar(FILES)[:2048]) + b"\x50\x2a\x4d\x18\x03\0\0\0abc"
    ends = {0, len(whole), len(whole) - 11}
    whole += streaming.compress(a_tar(FILES)[2048:]) + streaming.flush()
    with unpacked_stream(MemoryBytes(whole, "log")) as stream:
        assert stream.read() == a_tar(FILES)
    for cut in set(range(len(whole))) - ends:
        with pytest.raises(DamagedFileError):
            require_whole(MemoryBytes(whole[:cut], "log"))
