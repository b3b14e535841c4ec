"""Every read passes one door: whatever offset and size a hostile file names, only its own bytes are asked for."""

import io
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from itertools import product
from pathlib import Path

import pytest

from builders.machine import ALinuxMachine
from fundamen.formats.archives.compound_file import CompoundFile
from fundamen.formats.byte_source import ByteSource, MemoryBytes, PartOf, SharedFile, SourceStream
from fundamen.formats.cursor import Cursor
from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.recording import RecordingMachine
from fundamen.model.errors import DamagedFileError
from fundamen.model.paths import HostPath, MachinePath

DATA = bytes(range(256)) * 20
NUMBERS = [n + d for n in (0, len(DATA), 4096, 1 << 31, 1 << 32, 1 << 63, 1 << 64) for d in (-1, 0, 1)]
PACKAGE = Path(__file__).parent.parent / "data" / "saltgrass.msi"


def of_a_file(folder: Path, _stack: ExitStack) -> FileBytes:
    (folder / "file").write_bytes(DATA)
    return FileBytes(HostPath(str(folder / "file")), "file")


def of_a_file_as_it_is_recorded(folder: Path, stack: ExitStack) -> ByteSource:
    machine = ALinuxMachine(folder / "machine").file("/file", DATA).opened()
    recording = RecordingMachine(machine, 1 << 20)
    stack.enter_context(recording.taken)
    return stack.enter_context(recording.open(MachinePath("/file")))


SOURCES: dict[str, Callable[[Path, ExitStack], ByteSource]] = {
    "memory": lambda _folder, _stack: MemoryBytes(DATA),
    "a file": of_a_file,
    "a file that several read": lambda _folder, _stack: SharedFile(io.BytesIO(DATA), "shared"),
    "a part": lambda _folder, _stack: PartOf(MemoryBytes(b"before" + DATA + b"after"), 6, len(DATA)),
    "a file as it is recorded": of_a_file_as_it_is_recorded,
}


@pytest.fixture(scope="module", params=SOURCES)
def source(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[ByteSource]:
    with ExitStack() as stack:
        yield SOURCES[request.param](tmp_path_factory.mktemp("source"), stack)


def test_bytes_from_outside_are_none(source: ByteSource) -> None:
    for offset, size in product(NUMBERS, NUMBERS):
        expected = DATA[offset : offset + max(size, 0)] if offset >= 0 else b""
        assert source.read_at(offset, size) == expected, (offset, size)


def test_a_stream_of_an_install_package_keeps_to_its_bytes() -> None:
    package = CompoundFile(MemoryBytes(PACKAGE.read_bytes()))
    largest = max((each for each in package.root.entries if each.is_stream), key=lambda entry: entry.size)
    stream = package.source(largest)
    whole = stream.read_at(0, stream.size)
    assert len(whole) == largest.size
    for offset, size in product(NUMBERS, NUMBERS):
        expected = whole[offset : offset + max(size, 0)] if offset >= 0 else b""
        assert stream.read_at(offset, size) == expected, (offset, size)


@pytest.mark.parametrize("number", NUMBERS)
def test_a_cursor_refuses_what_is_not_there_and_a_stream_ends(number: int) -> None:
    source = MemoryBytes(DATA)
    if not 0 <= number <= len(DATA):
        with pytest.raises(DamagedFileError):
            Cursor(source, number).take(1, "byte")
        with pytest.raises(DamagedFileError):
            Cursor(source).take(number, "bytes")
        with pytest.raises(DamagedFileError):
            Cursor(source, number).text("name")
    if number >= 0:
        stream = SourceStream(source)
        stream.seek(number)
        assert stream.read(number) == DATA[number : 2 * number]


def test_a_file_that_tells_no_size_is_read_to_its_end() -> None:
    source = FileBytes(HostPath("/proc/self/status"), "status")
    assert source.read_at(0, source.size).startswith(b"Name:")
    assert source.size > 100
    source.close()
