"""A survey checks what repairs are drawn from: packages that apt keeps, the component store, our own copies."""

import base64
import hashlib
from pathlib import Path
from typing import Any

import pytest

from builders.machine import ALinuxMachine, AWindowsMachine
from builders.media import a_deb
from conftest import Fundamen
from fundamen.messages import say

ARCHIVES = "/var/cache/apt/archives"
STORE = "/Windows/WinSxS"


def spoilt(fundamen: Fundamen, root: Path, depth: str = "used") -> list[dict[str, Any]]:
    [found] = fundamen("survey", "-m", root, "--depth", depth, "--json").records
    answer: list[dict[str, Any]] = found["spoilt"]
    return answer


def test_kept_packages_that_are_cut_are_reported(fundamen: Fundamen, linux: ALinuxMachine) -> None:
    linux.program("/bin/sh").file(f"{ARCHIVES}/tide_1%3a2.0-1_amd64.deb", a_deb("tide", "1:2.0-1"))
    assert spoilt(fundamen, linux.root) == []
    whole = a_deb("ebb", "1")
    for end in (0, 40, 150, len(whole) // 2, len(whole) - 40, len(whole) - 3):
        linux.file(f"{ARCHIVES}/ebb_1_amd64.deb", whole[:end])
        [answer] = spoilt(fundamen, linux.root)
        assert (answer["path"], answer["do"]["text"]) == (
            f"{ARCHIVES}/ebb_1_amd64.deb",
            say("survey.rm-apt-get-download", path=f"{ARCHIVES}/ebb_1_amd64.deb", name="ebb", architecture="amd64"),
        )  # fmt: skip
    assert fundamen("capture", "-m", linux.root, "all.capture", "--all", "--yes").status == 0
    assert spoilt(fundamen, linux.root.parent / "all.capture") == [answer]
    assert spoilt(fundamen, linux.root, "needs") == []


@pytest.mark.parametrize("form", ["attributes", "signature"])
def test_files_of_the_component_store_are_compared_with_their_assemblies(
    fundamen: Fundamen, windows: AWindowsMachine, form: str
) -> None:
    data = b"salt" * 99
    attributes, inside = f'hash="{hashlib.sha1(data, usedforsecurity=False).hexdigest()}" hashalg="SHA1"', ""
    if form == "signature":
        digest = base64.b64encode(hashlib.sha256(data).digest()).decode()
        signature = 'xmlns:d="http://www.w3.org/2000/09/xmldsig#"'
        method = '<d:DigestMethod Algorithm="http://www.w3.org/2000/09/xmldsig#sha256"/>'
        attributes, inside = signature, f"<h>{method}<d:DigestValue>{digest}</d:DigestValue></h>"
    manifest = (
        '<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">'
        f'<file name="salt.dll" {attributes}>{inside}</file><file name="zone.dll"/></assembly>'
    )
    windows.file(f"{STORE}/Manifests/amd64_salt.manifest", manifest.encode())
    windows.file(f"{STORE}/amd64_salt/salt.dll", data).file(f"{STORE}/amd64_salt/zone.dll", b"zone")
    windows.file(f"{STORE}/Manifests/amd64_packed.manifest", b"DCM\x01PA30")
    assert spoilt(fundamen, windows.root) == []
    windows.file(f"{STORE}/amd64_salt/salt.dll", data[:-1] + b"!")
    (windows.root / "Windows/WinSxS/amd64_salt/zone.dll").unlink()
    assert [
        (answer["path"].rpartition("\\")[2], answer["why"]["code"]) for answer in spoilt(fundamen, windows.root)
    ] == [
        ("salt.dll", "survey.its-bytes-are-not-those-that"),
        ("zone.dll", "survey.its-assembly-lists-it-and-it"),
    ]
    [found] = fundamen("survey", "-m", windows.root, "--depth", "used", "--json").records
    assert "survey.of-the-component-store-packed-manifests" in [gap["code"] for gap in found["gaps"]]


def test_our_own_copies_are_checked_and_left_as_they_are(fundamen: Fundamen, linux: ALinuxMachine, home: Path) -> None:
    linux.program("/bin/sh")
    copy = home / "content" / ("ab" * 32)
    copy.parent.mkdir(parents=True, exist_ok=True)
    copy.write_bytes(b"not that")
    [answer] = spoilt(fundamen, linux.root)
    assert (answer["path"], answer["do"]["text"], copy.read_bytes()) == (
        str(copy),
        say("cli.fundamen-sources-verify"),
        b"not that",
    )
    text = fundamen("survey", "-m", linux.root, "--depth", "used").out
    assert text.startswith("1 copy that repairs are drawn from is damaged.")
