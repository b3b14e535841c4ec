from contextlib import suppress
from pathlib import Path

from builders.damage import changed_at_each
from fundamen.demo.world import BINARIES
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.managed.cli_header import read_managed
from fundamen.formats.windows.pe import read_pe
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

IMAGE = (Path(__file__).parent.parent / "data" / "managed.exe").read_bytes()


def test_a_managed_image_tells_what_it_runs_on_and_refers_to() -> None:
    managed = read_managed(MemoryBytes(IMAGE), read_pe(MemoryBytes(IMAGE)))
    assert managed is not None
    assert str(managed.assembly) == "managed, Version=4.2.1.7, Culture=neutral, PublicKeyToken=null"
    assert [str(reference) for reference in managed.references] == [
        "System.Xml, Version=4.0.0.0, Culture=neutral, PublicKeyToken=b77a5c561934e089",
        "mscorlib, Version=4.0.0.0, Culture=neutral, PublicKeyToken=b77a5c561934e089",
    ]
    assert (managed.runtime_version, managed.target_framework) == ("v4.0.30319", ".NETFramework,Version=v4.7.2")
    assert (managed.width, managed.native_libraries) == (
        say("formats.any-processor-32-bits-preferred"),
        ("saltgrass-tide.dll",),
    )


def test_a_native_image_is_not_managed() -> None:
    data = MemoryBytes((BINARIES / "windows-x86" / "tidebook.exe").read_bytes())
    assert read_managed(data, read_pe(data)) is None


def test_an_image_changed_at_any_byte_is_read_or_refused(*, every_value: bool) -> None:
    for changed in changed_at_each(IMAGE, range(0x80, len(IMAGE)), every_value=every_value):
        data = MemoryBytes(changed)
        with suppress(DamagedFileError):
            read_managed(data, read_pe(data))
