"""That real archives are read as binutils lists them is proven in tests/system; here, the forms and their damage."""

import pytest

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.ar_archive import MAGIC, Archive, machine_of_object, read_archive
from fundamen.model.errors import DamagedFileError

SYMBOLS = frozenset({"salt_depth", "salt_tide"})
NAMES = b"salt_depth\0salt_tide\0"


def part(name: str, content: bytes) -> bytes:
    header = f"{name:<16}{0:<12}{0:<6}{0:<6}{'100644':<8}{len(content):<10}`\n".encode()
    return header + content + b"\n" * (len(content) % 2)


def read(*parts: bytes) -> Archive:
    return read_archive(MemoryBytes(MAGIC + b"".join(parts)))


@pytest.mark.parametrize(
    "index",
    [
        part("/", b"\0\0\0\2" + b"\0\0\0\x80" * 2 + NAMES),
        part("/SYM64/", b"\0" * 7 + b"\2" + bytes(16) + NAMES),
        part("__.SYMDEF", b"\x10\0\0\0" + bytes(16) + b"\x15\0\0\0" + NAMES),
        part("#1/12", b"__.SYMDEF\0\0\0\x10\0\0\0" + bytes(16) + b"\x15\0\0\0" + NAMES),
    ],
    ids=["System V", "64 bits", "BSD", "BSD with a long name"],
)
def test_every_form_of_the_index_is_read(index: bytes) -> None:
    archive = read(index, part("a.o/", b"\x7fELF"))
    assert (archive.symbols, [member.name for member in archive.members]) == (SYMBOLS, ["a.o"])


def test_long_names_stand_in_a_table_or_before_the_content() -> None:
    archive = read(part("//", b"a_name_of_some_length.o/\nb.o/\n"), part("/25", b"x"), part("#1/6", b"bsd.o\0rest"))
    assert [(member.name, member.size) for member in archive.members] == [("b.o", 1), ("bsd.o", 4)]
    assert archive.symbols is None


def test_an_archive_cut_or_changed_anywhere_is_read_or_refused() -> None:
    data = (
        MAGIC
        + part("/", b"\0\0\0\2" + b"\0\0\0\x80" * 2 + NAMES)
        + part("//", b"long_name.o/\n")
        + part("/0", b"x" * 9)
    )
    changed = [
        data[:at] + bytes([data[at] ^ bits]) + data[at + 1 :] for at in range(len(data)) for bits in (0x01, 0xFF)
    ]
    for each in (*(data[:length] for length in range(len(data))), *changed):
        try:
            read_archive(MemoryBytes(each))
        except DamagedFileError as error:
            assert error.why  # noqa: PT017 - which of the two comes is not the point, only that nothing else does


def test_the_machine_of_an_object_for_windows_is_known_by_its_first_bytes() -> None:
    assert machine_of_object(bytes.fromhex("6486")) == "x86_64"
    assert machine_of_object(bytes.fromhex("0000ffff0000 64aa")) == "aarch64"
    assert machine_of_object(b"Dear caller") == ""
