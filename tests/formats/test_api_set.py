import struct
from contextlib import suppress

import pytest

from builders.api_set import a_schema
from fundamen.formats.windows.api_set import read_api_sets
from fundamen.model.errors import DamagedFileError


@pytest.mark.parametrize("version", [2, 4, 6])
def test_every_version_of_the_schema_is_read(version: int) -> None:
    sets = read_api_sets(a_schema(version))
    assert sets.host_of("api-ms-win-core-file-l1-2-0.dll", "app.exe") == "kernelbase.dll"
    assert sets.host_of("API-MS-WIN-Core-File-L1-2-7", "app.exe") == "kernelbase.dll"  # the revision does not count
    assert sets.host_of("api-ms-win-core-path-l1-1-0.dll", "app.exe") == "one.dll"
    assert sets.host_of("api-ms-win-core-path-l1-1-0.dll", "Tide.DLL") == "two.dll"
    assert sets.host_of("api-ms-win-nothing-here-l1-1-0.dll", "app.exe") == ""
    assert sets.host_of("api-ms-win-unheard-of-l1-1-0.dll", "app.exe") is None
    assert sets.host_of("kernel32.dll", "app.exe") is None


@pytest.mark.parametrize("version", [2, 4, 6])
def test_a_schema_changed_or_cut_anywhere_is_read_or_refused(version: int) -> None:
    data = a_schema(version)
    for at in range(len(data)):
        for changed in (data[:at], data[:at] + b"\xff" + data[at + 1 :]):
            with suppress(DamagedFileError):
                read_api_sets(changed).host_of("api-ms-win-core-file-l1-2-0", "x")


def test_an_unknown_version_is_refused() -> None:
    with pytest.raises(DamagedFileError, match="version is 9"):
        read_api_sets(struct.pack("<II", 9, 0))
