"""One disc image, made with Debian's tools, with four variants of a package: the one right variant is restored."""

import hashlib
import subprocess
from pathlib import Path

import pytest

from builders.machine import AWindowsMachine
from builders.pe import a_pe
from conftest import Fundamen
from fundamen.formats.archives.container import find_container
from fundamen.formats.byte_source import MemoryBytes
from wording import says

pytestmark = pytest.mark.system

PACKAGE = """<?xml version="1.0"?>
<Wix xmlns="http://schemas.microsoft.com/wix/2006/wi"><Product Id="*" Name="Saltgrass Runtime{pack}" Version="4.2.1"
 Manufacturer="Ardvane Instruments" Language="{language}" UpgradeCode="7a3c9b1e-0d52-4c0b-9d0e-5a1f2b3c4d5e">
<Package InstallerVersion="200" Compressed="yes"/><Media Id="1" Cabinet="salt.cab" EmbedCab="yes"/>
<Directory Id="TARGETDIR" Name="SourceDir"><Directory Id="{folder}">
<Component Id="C" Guid="7a3c9b1e-0d52-4c0b-9d0e-5a1f2b3c4d5f"><File Id="F" Source="salt.dll"/>
<File Id="G" Source="reed.dll"/></Component></Directory></Directory>
<Feature Id="X" Level="1"><ComponentRef Id="C"/></Feature></Product></Wix>
"""
PROGRAMS = {"x86_64": "C:\\Tidebook\\tidebook.exe", "x86": "C:\\Tidebook\\narrow.exe"}
FOLDERS = {"x86_64": ("x64", "System64Folder", "System32"), "x86": ("x86", "SystemFolder", "SysWOW64")}


def a_library(architecture: str, language: int) -> bytes:
    return a_pe(architecture, name="salt.dll", exports=["tide", f"tides_{language}"], version=(4, 2, 1, 0))


@pytest.fixture(scope="module")
def disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("disc")
    (folder / "disc" / "packages").mkdir(parents=True)
    for architecture, (name, system, _) in FOLDERS.items():
        for pack, language in (("", 0), (" Language Pack", 1031)):
            (folder / "salt.dll").write_bytes(a_library(architecture, language))
            (folder / "reed.dll").write_bytes(a_pe(architecture, name="reed.dll"))
            (folder / "p.wxs").write_text(PACKAGE.format(pack=pack, language=language, folder=system))
            target = f"disc/packages/{hashlib.md5(f'{name}{language}'.encode()).hexdigest()}.msi"  # noqa: S324 - a name that tells nothing
            subprocess.run(["wixl", "-a", name, "-o", target, "p.wxs"], cwd=folder, check=True)
    command = ["xorriso", "-as", "genisoimage", "-quiet", "-J", "-r", "-o", "saltgrass.iso", "disc"]
    subprocess.run(command, cwd=folder, check=True, capture_output=True)
    return folder / "saltgrass.iso"


@pytest.mark.parametrize("architecture", PROGRAMS)
def test_of_four_variants_the_one_right_one_is_restored(
    disc: Path, windows: AWindowsMachine, fundamen: Fundamen, architecture: str
) -> None:
    program = PROGRAMS[architecture]
    windows.system().program(program, architecture, needs={"salt.dll": ["tide"], "reed.dll": []})
    digest = hashlib.sha256(disc.read_bytes()).hexdigest()
    words = ("-m", str(windows.root), "--media", str(disc), "--media-digest", digest)
    ran = fundamen("restore", "--yes", *words, program)
    assert ran.status == 0, ran.out + ran.err
    system = windows.root / "Windows" / FOLDERS[architecture][2]
    assert (system / "salt.dll").read_bytes() == a_library(architecture, 0)
    assert (system / "reed.dll").read_bytes() == a_pe(architecture, name="reed.dll")
    assert sorted(path.name for path in system.iterdir()) == ["ntdll.dll", "reed.dll", "salt.dll"]


def test_all_four_variants_are_published_and_none_takes_another_s_place(
    disc: Path, fundamen: Fundamen, tmp_path: Path
) -> None:
    words = ("--keys", tmp_path / "keys", "--media-digest", hashlib.sha256(disc.read_bytes()).hexdigest())
    ran = fundamen("sources", "publish", tmp_path / "source", "--from", disc, "--package", "Another", *words, "--json")
    assert ran.status == 0, ran.err
    fingerprint = ran.records[0]["fingerprint"]
    fundamen("sources", "trust", tmp_path / "source", "--fingerprint", fingerprint)
    [listed] = fundamen("sources", "list", "--json").records
    assert [each["packages"] for each in listed["sources"]] == [4]
    assert sorted(record["package"] for record in ran.records) == [
        f"Saltgrass Runtime{pack} 4.2.1 for Windows {architecture}{language}"
        for pack, language in (("", ""), (" Language Pack", ", language de-DE"))
        for architecture in sorted(FOLDERS)
    ]


def test_a_disc_image_is_read_as_its_maker_wrote_it(disc: Path) -> None:
    container = find_container(MemoryBytes(disc.read_bytes()))
    assert container is not None
    for packed, data in container.unpack():
        original = disc.parent / "disc" / packed.path
        assert data.read() == original.read_bytes()
        inner = find_container(MemoryBytes(original.read_bytes()))
        assert inner is not None
        listed = subprocess.run(["msiextract", "--list", original], capture_output=True, text=True, check=True).stdout
        assert {p.path.rpartition("/")[2] for p, _ in inner.unpack()} == {n.rpartition("/")[2] for n in listed.split()}


def test_cabinets_beside_a_package_belong_to_it_and_are_proven_by_themselves(
    windows: AWindowsMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    windows.system().program(PROGRAMS["x86_64"], needs={"salt.dll": ["tide"], "reed.dll": []})
    folder = tmp_path / "medium"
    folder.mkdir()
    (folder / "salt.dll").write_bytes(a_library("x86_64", 0))
    (folder / "reed.dll").write_bytes(a_pe(name="reed.dll"))
    text = PACKAGE.format(pack="", language=0, folder="System64Folder").replace('EmbedCab="yes"', 'EmbedCab="no"')
    (folder / "p.wxs").write_text(text)
    subprocess.run(["wixl", "-a", "x64", "-o", "salt.msi", "p.wxs"], cwd=folder, check=True)
    for key, name in (("F", "salt.dll"), ("G", "reed.dll")):  # in its cabinet a file is called by its key
        (folder / name).rename(folder / key)
    subprocess.run(["gcab", "-c", "salt.cab", "F", "G"], cwd=folder, check=True)
    for name in ("F", "G", "p.wxs"):
        (folder / name).unlink()
    restoring = ("restore", "--yes", "-m", str(windows.root))
    digest = hashlib.sha256((folder / "salt.msi").read_bytes()).hexdigest()
    alone = fundamen(*restoring, "--media", str(folder / "salt.msi"), "--media-digest", digest, PROGRAMS["x86_64"])
    assert (alone.status, says(alone.out, "sources.its-cabinet-lies-beside-it", name="salt.cab")) == (1, True), (
        alone.out
    )
    disc = tmp_path / "salt.iso"
    command = ["xorriso", "-as", "genisoimage", "-quiet", "-J", "-r", "-o", str(disc), str(folder)]
    subprocess.run(command, check=True, capture_output=True)
    digest = hashlib.sha256(disc.read_bytes()).hexdigest()
    ran = fundamen(*restoring, "--media", str(disc), "--media-digest", digest, PROGRAMS["x86_64"])
    assert ran.status == 0, ran.out + ran.err
    assert (windows.root / "Windows/System32/salt.dll").read_bytes() == a_library("x86_64", 0)
