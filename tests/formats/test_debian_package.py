"""Debian packages: what they bring is read as dpkg does; what leads elsewhere or never ends is refused."""

import gzip
import io
import lzma
import stat
import subprocess
import tarfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamen.formats.archives.debian_package import read_debian_package, unpack_debian_package
from fundamen.formats.archives.packed import PackedFile
from fundamen.formats.byte_source import MemoryBytes
from fundamen.model.errors import DamagedFileError

CONTROL = b"Package: libsalt4\nVersion: 1:4.2-1\nArchitecture: amd64\nDescription: tides\n more of it\n"
PACKERS: dict[str, Callable[[bytes], bytes]] = {"": bytes, ".gz": gzip.compress, ".xz": lzma.compress}


def a_member(name: str, data: bytes = b"", **facts: object) -> tuple[tarfile.TarInfo, bytes]:
    info = tarfile.TarInfo(name)
    info.size = len(data)
    for fact, value in facts.items():
        setattr(info, fact, value)
    return info, data


def a_tar(*members: tuple[tarfile.TarInfo, bytes]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for info, data in members:
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


def a_deb(*members: tuple[tarfile.TarInfo, bytes], packed: str = ".xz", control: bytes = CONTROL) -> bytes:
    fields = [a_member("./control", control), a_member("./conffiles", b"/etc/salt.conf\n")]
    parts = {
        "debian-binary": b"2.0\n",
        "control.tar" + packed: PACKERS[packed](a_tar(*fields)),
        "data.tar" + packed: PACKERS[packed](a_tar(*members)),
    }
    archive = b"!<arch>\n"
    for name, content in parts.items():
        archive += f"{name:<16}{0:<12}{0:<6}{0:<6}{'100644':<8}{len(content):<10}`\n".encode()
        archive += content + b"\n" * (len(content) % 2)
    return archive


LIBRARY = a_member("./usr/lib/libsalt.so.4.2", b"tide", mode=0o644)
LINK = a_member("./usr/lib/libsalt.so.4", type=tarfile.SYMTYPE, linkname="libsalt.so.4.2")
HARD = a_member("./usr/lib/again", type=tarfile.LNKTYPE, linkname="./usr/lib/libsalt.so.4.2")


@pytest.mark.parametrize("packed", PACKERS)
def test_a_package_is_read_however_it_is_packed(packed: str) -> None:
    source = MemoryBytes(a_deb(LIBRARY, LINK, HARD, packed=packed))
    package = read_debian_package(source)
    assert (package.name, package.version, package.architecture) == ("libsalt4", "1:4.2-1", "amd64")
    assert package.settings == {"etc/salt.conf"}
    found = [(p.path, p.mode, p.link, p.same_as, data.read()) for p, data in unpack_debian_package(source)]
    assert found == [
        ("usr/lib/libsalt.so.4.2", 0o644, "", "", b"tide"),
        ("usr/lib/libsalt.so.4", 0o777, "libsalt.so.4.2", "", b""),
        ("usr/lib/again", 0o644, "", "usr/lib/libsalt.so.4.2", b""),
    ]


@pytest.mark.parametrize("name", ["../etc/passwd", "./usr/../../etc/passwd", "usr/lib/../x", "./", "a//b", "./a/./b"])
def test_a_path_that_leads_elsewhere_is_refused(name: str) -> None:
    with pytest.raises(DamagedFileError, match="leads elsewhere"):
        list(unpack_debian_package(MemoryBytes(a_deb(a_member(name, b"x")))))


@pytest.mark.parametrize("data", [b"", b"!<arch>\n", a_deb()[:200], a_deb(control=b"Package: x\n")])
def test_what_is_no_package_is_refused(data: bytes) -> None:
    with pytest.raises(DamagedFileError):
        read_debian_package(MemoryBytes(data))


@given(at=st.integers(0, 1500), noise=st.binary(max_size=8), removed=st.integers(0, 8))
def test_a_changed_package_is_read_or_refused(at: int, noise: bytes, removed: int) -> None:
    data = a_deb(LIBRARY, LINK, packed=".gz")
    source = MemoryBytes(data[:at] + noise + data[at + removed :])
    try:
        read_debian_package(source)
        for packed, content in unpack_debian_package(source):
            assert ".." not in packed.path.split("/")
            content.read()
    except DamagedFileError:
        return


@pytest.mark.system
def test_a_package_that_dpkg_made_is_read_as_dpkg_reads_it(tmp_path: Path) -> None:
    names = ["libzstd1", "bash", "perl-base", "systemd", "linux-libc-dev", "ncurses-term", "passwd", "base-files"]
    subprocess.run(["apt-get", "download", *names], cwd=tmp_path, check=True)
    for path in tmp_path.glob("*.deb"):
        source = MemoryBytes(path.read_bytes())
        listed = subprocess.run(["dpkg-deb", "-c", path], capture_output=True, text=True, check=True).stdout
        assert {in_the_words_of_dpkg(packed) for packed, _ in unpack_debian_package(source)} == according_to_dpkg(
            listed
        )
        shown = subprocess.run(["dpkg-deb", "-f", path, "Version"], capture_output=True, text=True, check=True).stdout
        assert read_debian_package(source).version == shown.strip()


def in_the_words_of_dpkg(packed: PackedFile) -> tuple[str, str, str, str]:
    """Mode, owner and group, path, and to what it leads, of links of either kind."""
    kind = stat.S_IFDIR if packed.is_folder else stat.S_IFLNK if packed.link else stat.S_IFREG
    mode = stat.filemode(kind | packed.mode)
    return ("h" + mode[1:] if packed.same_as else mode), f"{packed.owner}/{packed.group}", packed.path, packed.link


def according_to_dpkg(listed: str) -> set[tuple[str, str, str, str]]:
    """The same of every line but that of the folder in which all lies."""
    found = set()
    for line in listed.splitlines():
        mode, owner, _, _, _, rest = line.split(maxsplit=5)
        path, _, link = rest.partition(" -> ")
        path = path.partition(" link to ")[0].removeprefix("./").rstrip("/").replace("\\\\", "\\")
        if path:
            found.add((mode, owner, path, link))
    return found
