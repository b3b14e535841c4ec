"""Nothing is published that the packager could not stand for: damaged, forged, contradicting, or in another's place."""

import hashlib
import json
import struct
from collections.abc import Callable
from itertools import accumulate
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.media import a_deb, a_disc_image, a_zip
from builders.pe import a_pe
from builders.signing import APublisher
from command import Ran
from conftest import Fundamen

Publish = Callable[..., Ran]
DATA = Path(__file__).parent.parent / "data"
LIBRARY = an_elf(soname="libtide.so.4")
OF_42 = a_pe(name="salt.dll", exports=["tide"], version=(4, 2, 1, 0))
VOUCH = ("--vouch", "compared with Ardvane's digests")


@pytest.fixture
def publish(fundamen: Fundamen, tmp_path: Path) -> Publish:
    """Publish a folder of files."""

    def run(files: dict[str, bytes], *more: str, version: str = "4.2.1") -> Ran:
        media = tmp_path / f"media{len(list(tmp_path.iterdir()))}"
        for name, data in files.items():
            (media / name).parent.mkdir(parents=True, exist_ok=True)
            (media / name).write_bytes(data)
        words = ("--publisher", "Ardvane Instruments", "--package", "Saltgrass", "--version", version)
        where = ("sources", "publish", tmp_path / "source", "--from", media, "--keys", tmp_path / "keys")
        return fundamen(*where, *words, "--place", "{program}/../lib", *more)

    return run


def broken(signed: bytes) -> bytes:
    return signed[:0x400] + bytes([signed[0x400] ^ 1]) + signed[0x401:]


TRAPS: dict[str, tuple[dict[str, bytes], tuple[str, ...], str, str]] = {  # files, options, version, what is said
    "unsigned, and nobody vouches": ({"libtide.so.4": LIBRARY}, (), "4.2.1", "no publisher has signed libtide.so.4"),
    "vouched for without a reason": ({"libtide.so.4": LIBRARY}, ("--vouch", " "), "4.2.1", "no publisher has signed"),
    "a broken signature": ({"salt.dll": broken(APublisher().sign(OF_42))}, VOUCH, "4.2.1", "signature is broken"),
    "a page of a web server": ({"salt.dll": b"<!doctype html>Not found"}, VOUCH, "4.2.1", "'<!doctype html>Not found'"),
    "a text": ({"libtide.so.4.2": b"see libtide.so.4"}, VOUCH, "4.2.1", "is none; it begins with 'see libtide"),
    "cut off": ({"libtide.so.4": LIBRARY[:-40]}, VOUCH, "4.2.1", "it is damaged"),
    "another version": ({"salt.dll": OF_42}, VOUCH, "4.3", "its files state that they are of version 4.2.1"),
    "two processors": ({"a.dll": OF_42, "b.dll": a_pe("x86", name="b.dll")}, VOUCH, "4.2.1", "windows x86"),
}


@pytest.mark.parametrize("name", TRAPS)
def test_what_the_packager_could_not_stand_for_is_refused_with_the_way_on(publish: Publish, name: str) -> None:
    files, more, version, said = TRAPS[name]
    ran = publish(files, *more, version=version)
    answer = " ".join(ran.err.split())
    assert (ran.status in {2, 3, 4}, said in answer, "Do: " in answer) == (True, True, True), ran.out + ran.err


WHEEL = "tide-4.2-cp311-cp311-linux_x86_64.whl"
BOTH = WHEEL.replace("linux_x86_64", "macosx_11_0_universal2")
SAYS = {"tide-4.2.dist-info/METADATA": b"Metadata-Version: 2.1\nName: tide\nVersion: 4.2\n\n"}
FAT = (DATA / "libsaltmac.dylib").read_bytes()
THIN = FAT[slice(*accumulate(struct.unpack(">II", FAT[16:24])))]  # the first of its two parts
ARTEFACTS: dict[str, tuple[str, bytes, str]] = {  # file name, content, what is said
    "a page of a web server": (WHEEL, b"<html>not found</html>", "begins with '<html>not found</html>'"),
    "cut off": (WHEEL, a_zip(SAYS)[:-30], "it is damaged"),
    "another version": (WHEEL.replace("4.2", "4.3"), a_zip(SAYS), "it says that it is tide 4.2"),
    "another project": (WHEEL.replace("tide", "tidy"), a_zip(SAYS), "it says that it is tide 4.2"),
    "another processor": (
        WHEEL,
        a_zip({**SAYS, "x.so": an_elf("aarch64")}),
        "x.so in it is for linux aarch64",
    ),
    "another system": (
        WHEEL,
        a_zip({**SAYS, "x.pyd": a_pe(name="x.pyd")}),
        "x.pyd in it is for windows x86_64",
    ),
    "one of two processors": (
        BOTH,
        a_zip({**SAYS, "x.so": THIN}),
        "x.so in it is for macos x86_64 only",
    ),
    "none of two processors": (
        WHEEL.replace("linux_x86_64", "linux_aarch64.linux_ppc64le"),
        a_zip({**SAYS, "x.so": an_elf("x86_64")}),
        "x.so in it is for linux x86_64",
    ),
    "no library": (WHEEL, a_zip({**SAYS, "tide/x.so": b"see x.so.1"}), "tide/x.so in it is no library"),
}


@pytest.mark.parametrize("name", ARTEFACTS)
def test_an_artefact_that_is_not_what_its_name_says_is_refused(fundamen: Fundamen, tmp_path: Path, name: str) -> None:
    file, content, said = ARTEFACTS[name]
    (tmp_path / "wheels").mkdir()
    words = ("--publisher", "A", "--keys", tmp_path / "keys", "--from", tmp_path / "wheels")
    (tmp_path / "wheels" / WHEEL).write_bytes(a_zip({**SAYS, "tide/x.so": an_elf()}))
    (tmp_path / "wheels" / BOTH).write_bytes(a_zip({**SAYS, "tide/x.so": FAT}))
    assert fundamen("sources", "publish", tmp_path / "source", "--artefacts", *words).status == 0
    (tmp_path / "wheels" / file).write_bytes(content)
    ran = fundamen("sources", "publish", tmp_path / "source", "--artefacts", *words)
    assert (ran.status, said in " ".join(ran.err.split())) == (4, True), ran.out + ran.err


@pytest.mark.parametrize(
    ("built_for", "version", "said"),
    [
        ("aarch64", "", "it says that it is for amd64, and its files for aarch64"),
        ("x86_64", "4.3", "they are of version 1:4.2-1"),
        ("x86_64", "4.2", ""),
    ],
)
def test_what_an_install_package_says_of_itself_stays(
    fundamen: Fundamen, tmp_path: Path, built_for: str, version: str, said: str
) -> None:
    file = tmp_path / "it.deb"
    library = an_elf(built_for, soname="libsalt.so.4")
    file.write_bytes(data := a_deb("libsalt4", "1:4.2-1", {"usr/lib/libsalt.so.4": library}))
    words = ("--publisher", "Ardvane", "--package", "Other", "--version", version, "--keys", tmp_path / "keys")
    digest = ("--media-digest", hashlib.sha256(data).hexdigest())
    ran = fundamen("sources", "publish", tmp_path / "source", "--from", file, *words, *digest)
    answer = " ".join((ran.out + ran.err).split())
    assert (ran.status, (said or "signed: libsalt4 4.2") in answer) == (2 if said else 0, True), answer


def test_what_is_vouched_for_is_published_and_technicians_see_why(
    publish: Publish, fundamen: Fundamen, tmp_path: Path
) -> None:
    ran = publish(
        {"libtide.so.4": LIBRARY, "readme.txt": b"tides", "libtide.so": b"INPUT(libtide.so.4)"}, *VOUCH, "--json"
    )
    assert ran.status == 0, ran.err
    fingerprint = json.loads(ran.out)["fingerprint"]
    assert publish({"salt.dll": APublisher().sign(OF_42)}).status == 0, "a signature needs nobody's word"
    fundamen("sources", "trust", tmp_path / "source", "--fingerprint", fingerprint, "--name", "saltgrass")
    offers = fundamen("sources", "offers", "libtide.so.4")
    assert f"Verified by: the packager: {VOUCH[1]}" in " ".join(offers.out.split()), offers.out + offers.err


def test_a_set_for_arm64_with_files_for_its_x86_64_processes_is_one_package(publish: Publish) -> None:
    hybrid, both = ((DATA / f"{name}.dll").read_bytes() for name in ("arm64ec", "arm64x"))
    ran = publish({"ebb.dll": hybrid, "salt.dll": both}, *VOUCH, "--json")
    assert (ran.status, json.loads(ran.out)["files"] if ran.status == 0 else 0) == (0, 2), ran.err


def test_another_with_the_same_name_and_version_takes_its_place_only_for_a_reason(publish: Publish) -> None:
    assert publish({"libtide.so.4": LIBRARY}, *VOUCH).status == 0
    assert publish({"libtide.so.4": LIBRARY}, *VOUCH).status == 0, "the same files are the same package"
    other = {"libtide.so.4": an_elf(soname="libtide.so.4", padding=8)}
    refused = publish(other, *VOUCH)
    assert (refused.status, "--replace" in refused.err) == (2, True), refused.err
    ran = publish(other, *VOUCH, "--replace", "the first was for another mast")
    assert ran.status == 0, ran.err


def test_packages_of_one_medium_never_take_each_others_place(fundamen: Fundamen, tmp_path: Path) -> None:
    variants = {
        f"{name}.zip": a_zip(
            {"salt.dll": a_pe(name="salt.dll", version=(4, 2, 1, 0), product="Saltgrass", exports=[name])}
        )
        for name in ("tide", "ebb")
    }
    (tmp_path / "it.iso").write_bytes(disc := a_disc_image(variants))
    digest = hashlib.sha256(disc).hexdigest()
    words = ("--from", tmp_path / "it.iso", "--keys", tmp_path / "keys", "--media-digest", digest)
    said = ("--publisher", "Ardvane Instruments", "--package", "Saltgrass", "--version", "4.2.1")
    ran = fundamen("sources", "publish", tmp_path / "source", *words, *said)
    assert (ran.status, "two are Saltgrass 4.2.1" in ran.err) == (2, True), ran.out + ran.err


def test_a_new_key_lies_where_the_old_one_did_and_what_is_not_at_hand_is_named(
    publish: Publish, fundamen: Fundamen, tmp_path: Path
) -> None:
    assert publish({"libtide.so.4": LIBRARY}, *VOUCH).status == 0
    safe, keys = tmp_path / "safe", tmp_path / "keys"
    safe.mkdir()
    (keys / "root.pem").rename(safe / "root.pem")
    refused = fundamen("sources", "rotate", tmp_path / "source", "targets", "--keys", keys)
    assert (refused.status, f"{keys} has keys of targets, snapshot, timestamp" in refused.err) == (3, True), refused.err
    old = (keys / "targets.pem").read_bytes()
    ran = fundamen("sources", "rotate", tmp_path / "source", "targets", "--keys", safe, "--keys", keys)
    assert ran.status == 0, ran.err
    assert (keys / "targets.pem").read_bytes() != old
    assert (keys / "targets.pem.retired-1").read_bytes() == old
    assert not (safe / "targets.pem").exists()
    assert f"root: {safe / 'root.pem'}" in ran.err
    empty = tmp_path / "empty"
    empty.mkdir()
    none = fundamen("sources", "renew", tmp_path / "source", "--keys", empty)
    assert (none.status, f"{empty} has no key" in none.err) == (3, True), none.err
