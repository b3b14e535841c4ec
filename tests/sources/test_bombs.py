"""Media that unpack to more than anybody made in good faith: each is refused soon, and takes little memory."""

import io
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from builders.media import a_zip
from conftest import Fundamen
from fundamen.formats.archives import zip_archive
from fundamen.formats.archives.zip_archive import unpack_zip
from fundamen.formats.byte_source import MemoryBytes
from fundamen.model.errors import DamagedFileError

GIB = 1 << 30
MOST_KIB = 200 << 10


def deflated_zeros(size: int, first: bytes = b"") -> Iterator[bytes]:
    """The deflated form of some bytes and very many zeros: the same blocks again and again."""
    packer = zlib.compressobj(9, wbits=-zlib.MAX_WBITS)
    yield packer.compress(first) + packer.flush(zlib.Z_FULL_FLUSH)
    mebibyte = zlib.compressobj(9, wbits=-zlib.MAX_WBITS)
    block = mebibyte.compress(bytes(1 << 20)) + mebibyte.flush(zlib.Z_FULL_FLUSH)
    for _ in range(size >> 20):
        yield block
    yield b"\x03\x00"


def a_zip_of(name: str, size: int, first: bytes = b"MZ") -> bytes:
    """An archive with one file, which states its size as it is."""
    data, file = b"".join(deflated_zeros(size, first)), name.encode()
    answer = struct.pack("<HHHHHIIIHH", 20, 0, 8, 0, 33, 0, len(data), size + len(first), len(file), 0)
    local = b"PK\x03\x04" + answer + file
    entry = b"PK\x01\x02" + struct.pack("<H", 20) + answer + bytes(14) + file
    end = struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, 1, 1, len(entry), len(local) + len(data), 0)
    return local + data + entry + end


def a_gzip_of(size: int, first: bytes) -> bytes:
    return b"\x1f\x8b\x08" + bytes(7) + b"".join(deflated_zeros(size, first)) + bytes(8)


def a_header(kind: bytes, size: int, name: str = "././@LongLink") -> bytes:
    member = tarfile.TarInfo(name)
    member.type, member.size = kind, size
    return member.tobuf(tarfile.GNU_FORMAT)


def with_holes() -> bytes:
    header = bytearray(a_header(tarfile.GNUTYPE_SPARSE, 0, "salt.dll"))
    header[482], header[148:156] = 1, b" " * 8
    header[148:156] = b"%06o\0 " % sum(header)
    return bytes(header)


def of_many_names(count: int) -> bytes:
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w") as archive:
        for number in range(count):
            archive.writestr(f"{number}/salt{number}.dll", b"MZ")
    return file.getvalue()


def nested(depth: int, width: int) -> bytes:
    data = a_zip({"salt.dll": b"MZ" + bytes(1 << 20)})
    for _ in range(depth):
        data = a_zip({f"{number}.zip": data for number in range(width)})
    return data


BOMBS: dict[str, tuple[Callable[[], bytes], int]] = {  # with the exit status
    "a program of 3 GiB in a ZIP archive": (lambda: a_zip_of("setup.exe", 3 * GIB), 3),
    "what may hold files, of 3 GiB": (lambda: a_zip_of("data.gz", 3 * GIB, b"\x1f\x8b"), 3),
    "a library of 3 GiB in a packed tar archive": (lambda: a_gzip_of(3 * GIB, a_header(b"0", 3 * GIB, "salt.dll")), 3),
    "a name of 3 GiB": (lambda: a_gzip_of(3 * GIB, a_header(tarfile.GNUTYPE_LONGNAME, 3 * GIB)), 3),
    "further fields of 3 GiB": (lambda: a_gzip_of(3 * GIB, a_header(tarfile.XHDTYPE, 3 * GIB)), 3),
    "holes without end": (lambda: a_gzip_of(3 * GIB, with_holes()), 3),
    "nothing but zeros": (lambda: a_gzip_of(3 * GIB, b""), 1),
    "15,000 names": (lambda: of_many_names(15_000), 1),
    "archives in archives": (lambda: nested(9, 3), 1),
}


@pytest.mark.parametrize("name", BOMBS)
def test_a_bomb_is_refused_or_gone_through_with_little_memory(name: str, fundamen: Fundamen, tmp_path: Path) -> None:
    make, status = BOMBS[name]
    medium = tmp_path / "medium"
    medium.write_bytes(make())
    ran = fundamen("sources", "offers", "salt.dll", "--for", "x86_64", "--media", medium)
    assert ran.status == status, ran.out + ran.err
    assert ran.peak < MOST_KIB, f"{ran.peak >> 10} MiB"


def test_more_names_than_any_real_one_has_are_refused_before_the_first_is_looked_at(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(zip_archive, "MOST_MEMBERS", 99)
    with pytest.raises(DamagedFileError, match="100 files"):
        next(unpack_zip(MemoryBytes(of_many_names(100), "it")))
