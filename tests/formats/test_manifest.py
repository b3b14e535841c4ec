import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamen.formats.windows.manifest import read_manifest
from fundamen.model.errors import DamagedFileError

MANIFEST = """<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">
  <assemblyIdentity type="win32" name="Ardvane.Saltgrass" version="4.2.1.7" processorArchitecture="amd64"
                    publicKeyToken="0123456789ABCDEF" language="neutral"/>
  <file name="saltgrass.dll"/><file name="parts\\tide.dll" hash="00"/>
  <dependency optional="yes"><dependentAssembly>
    <assemblyIdentity name="Ardvane.Maps" version="1.2" processorArchitecture="*"/>
    <bindingRedirect oldVersion="1.0.0.0-1.2.65535.65535" newVersion="1.3.0.1"/>
  </dependentAssembly></dependency>
</assembly>"""


def test_identity_files_dependencies_and_redirects_are_read() -> None:
    manifest = read_manifest(MANIFEST.encode() + b"\0\0")
    assert str(manifest.identity) == "Ardvane.Saltgrass, 4.2.1.7, amd64, key 0123456789abcdef"
    assert manifest.files == ("saltgrass.dll", "parts\\tide.dll")
    [dependency] = manifest.dependencies
    assert (str(dependency.identity), dependency.is_optional) == ("Ardvane.Maps, 1.2.0.0, any architecture", True)
    [redirect] = dependency.redirects
    assert (redirect.first, redirect.last, redirect.instead) == ((1, 0, 0, 0), (1, 2, 65535, 65535), (1, 3, 0, 1))


BOMB = (
    "<!DOCTYPE a [<!ENTITY b '"
    + "x" * 99
    + "'>"
    + "".join(f"<!ENTITY b{n} '&b;&b;&b;'>" for n in range(9))
    + "]><a>&b8;</a>"
)


@pytest.mark.parametrize(
    "hostile",
    [
        BOMB,
        '<!DOCTYPE a [<!ENTITY b SYSTEM "file:///etc/passwd">]><a>&b;</a>',
        "<a>" * 5000 + "</a>" * 5000,
        "<a",
        "",
        "x" * (2 << 20),
    ],
    ids=["entity bomb", "outside entity", "nesting", "cut", "empty", "too large"],
)
def test_a_hostile_manifest_is_refused(hostile: str) -> None:
    with pytest.raises(DamagedFileError):
        read_manifest(hostile.encode())


@given(st.binary(max_size=60), st.integers(0, len(MANIFEST)))
def test_a_changed_manifest_is_read_or_refused(noise: bytes, at: int) -> None:
    data = MANIFEST.encode()
    try:
        read_manifest(data[:at] + noise + data[at:])
    except DamagedFileError:
        assert noise
