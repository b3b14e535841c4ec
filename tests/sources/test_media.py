"""Media as a source: the right unit is chosen by what it is, and nothing is believed without a proof."""

import hashlib
import struct
from collections.abc import Callable
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.media import a_cabinet, a_cabinet_set, a_disc_image, a_tar, a_zip
from builders.pe import a_pe
from builders.signing import APublisher
from command import Ran
from conftest import Fundamen
from fundamen.messages import template
from fundamen.sources.media_identity import is_for_developers
from wording import says

PROGRAM = "C:\\Tidebook\\tidebook.exe"
WIDE, NARROW = a_pe(name="salt.dll", exports=["tide"]), a_pe("x86", name="salt.dll", exports=["tide"])


@pytest.fixture
def office(windows: AWindowsMachine) -> AWindowsMachine:
    return windows.system().program(PROGRAM, needs={"salt.dll": ["tide"]})


def digest_of(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


MEDIA = {
    "disc.iso": a_disc_image({"x86/salt.dll": NARROW, "x64/salt.dll": WIDE, "x64/readme.txt": b"Spring tides"}),
    "disc-of-archives.iso": a_disc_image(
        {"x86.zip": a_zip({"salt.dll": NARROW}), "x64.zip": a_zip({"salt.dll": WIDE})}
    ),
    "salt.tar.gz": a_tar({"salt/salt.dll": WIDE, "salt/readme.txt": b"Spring tides"}),
    "salt.cab": a_cabinet({"salt.dll": WIDE}),
    "setup.exe": a_pe("x86") + a_cabinet({"salt.dll": WIDE}),
    "nested.zip": a_zip({"inner.cab": a_cabinet({"salt.dll": WIDE})}),
}


@pytest.mark.parametrize("name", MEDIA)
def test_the_unit_that_serves_is_found_and_restored(
    office: AWindowsMachine, fundamen: Fundamen, tmp_path: Path, name: str
) -> None:
    medium = tmp_path / name
    medium.write_bytes(MEDIA[name])
    words = ("-m", str(office.root), "--media", str(medium))
    unproven = fundamen("restore", "--yes", *words, PROGRAM)
    assert (unproven.status, says(unproven.out, "sources.not-proven")) == (1, True)
    ran = fundamen("restore", "--yes", *words, "--media-digest", digest_of(medium), PROGRAM)
    assert ran.status == 0, ran.out + ran.err
    assert (office.root / "Tidebook" / "salt.dll").read_bytes() == WIDE
    assert says(ran.out, "sources.the-medium-has-the-sha-256")


def test_a_folder_is_looked_through_and_not_believed(
    office: AWindowsMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    folder = tmp_path / "unpacked" / "x64"
    folder.mkdir(parents=True)
    (folder / "salt.dll").write_bytes(WIDE)
    offers = ("sources", "offers", "salt.dll", "--for", "x86_64", "-m", str(office.root))
    for medium in (folder.parent, folder / "salt.dll"):
        ran = fundamen(*offers, "--media", str(medium))
        assert (ran.status, says(ran.out, "sources.a-folder-is-not-signed")) == (1, True)


def test_a_loose_file_whose_digest_was_checked_is_restored_without_its_neighbours(
    office: AWindowsMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    folder = tmp_path / "unpacked"
    folder.mkdir()
    (folder / "salt.dll").write_bytes(WIDE)
    (folder / "gull.dll").write_bytes(a_pe(name="gull.dll"))
    words = ("--yes", "-m", str(office.root), "--media-digest", digest_of(folder / "salt.dll"), PROGRAM)
    for medium in (folder, folder / "salt.dll"):
        assert fundamen("restore", "--media", str(medium), *words).status == 0
        assert (office.root / "Tidebook/salt.dll").read_bytes() == WIDE
        assert not (office.root / "Tidebook/gull.dll").exists()
        assert fundamen("undo", "-m", str(office.root)).status == 0


def test_a_package_whose_publisher_is_trusted_needs_no_digest(
    office: AWindowsMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    publisher = APublisher()
    root = publisher.root
    blob = struct.pack("<III", 32, 1, len(root.der)) + root.der
    stores = {"Microsoft": {"SystemCertificates": {"Root": {"Certificates": {"AA": {"Blob": blob}}}}}}
    office.registry(stores)
    setup = tmp_path / "setup.exe"
    setup.write_bytes(publisher.sign(a_pe("x86") + a_cabinet({"salt.dll": WIDE})))
    words = ("-m", str(office.root), "--media", str(setup))
    ran = fundamen("restore", "--yes", *words, PROGRAM)
    assert ran.status == 0, ran.out + ran.err
    assert "the signature of Ardvane Instruments" in " ".join(ran.out.split())


def test_a_file_that_goes_over_the_cabinets_of_a_set_is_restored_from_whichever_is_named(
    office: AWindowsMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    for name, cabinet in a_cabinet_set("salt.dll", WIDE, 3).items():
        (tmp_path / name).write_bytes(cabinet)
    second = ("--media", str(tmp_path / "set2.cab"), "--media-digest", digest_of(tmp_path / "set2.cab"))
    loose = fundamen("restore", "--yes", "-m", str(office.root), *second, PROGRAM)
    assert (loose.status, says(loose.out, "sources.its-cabinet-lies-beside-it", name="set1.cab")) == (1, True), (
        loose.out
    )
    others = [("--media-digest", digest_of(tmp_path / name)) for name in ("set1.cab", "set3.cab")]
    ran = fundamen("restore", "--yes", "-m", str(office.root), *second, *others[0], *others[1], PROGRAM)
    assert ran.status == 0, ran.out + ran.err
    assert fundamen("undo", "-m", str(office.root)).status == 0
    (tmp_path / "set3.cab").unlink()
    gone = fundamen("restore", "-m", str(office.root), *second, PROGRAM)
    assert (gone.status, says(gone.err, "formats.its-file-goes-on-in-which", behind="set3.cab")) == (3, True), gone.err


def test_loose_files_go_where_the_technician_says(linux: ALinuxMachine, fundamen: Fundamen, tmp_path: Path) -> None:
    linux.program("/opt/t/bin/tidebook", needs=["libsalt.so.4"], runpath="/opt/t/lib")
    medium = tmp_path / "salt.tar.gz"
    medium.write_bytes(a_tar({"lib/libsalt.so.4": an_elf(soname="libsalt.so.4")}))
    words = ("--media", str(medium), "--media-digest", digest_of(medium), "--media-place", "{program}/../lib")
    ran = fundamen("restore", "--yes", "-m", str(linux.root), *words, "/opt/t/bin/tidebook")
    assert ran.status == 0, ran.out + ran.err
    assert (linux.root / "opt/t/lib/libsalt.so.4").exists()


@pytest.mark.parametrize(
    ("content", "said"),
    [(b"no medium", "is no disc image"), (a_zip({"../salt.dll": WIDE}), "leads elsewhere"), (None, "cannot be read")],
    ids=["a text", "a climbing path", "not there"],
)
def test_a_medium_that_cannot_be_used_is_reported(
    office: AWindowsMachine, fundamen: Fundamen, tmp_path: Path, content: bytes | None, said: str
) -> None:
    medium = tmp_path / "medium"
    if content is not None:
        medium.write_bytes(content)
    ran = fundamen("restore", "--yes", "-m", str(office.root), "--media", str(medium), PROGRAM)
    assert (ran.status, said in ran.err) == (3, True), ran.err


@pytest.fixture
def publish(fundamen: Fundamen, tmp_path: Path) -> Callable[..., Ran]:
    """Publish something to a new source."""
    words = ("sources", "publish", str(tmp_path / "source"), "--keys", str(tmp_path / "keys"))
    return lambda origin, *more, **environment: fundamen(*words, "--from", origin, *more, **environment)


def test_a_signed_package_is_published_as_it_describes_itself(publish: Callable[..., Ran], tmp_path: Path) -> None:
    publisher = APublisher()
    setup = tmp_path / "setup.exe"
    library = a_pe(name="salt.dll", version=(4, 2, 1, 0), product="Saltgrass Runtime")
    setup.write_bytes(publisher.sign(a_pe("x86") + a_cabinet({"salt.dll": library})))
    (tmp_path / "roots.pem").write_bytes(publisher.root.pem)
    refused = publish(setup, "--json")
    assert (refused.status, says(refused.err, "sources.is-not-published")) == (4, True), refused.err
    ran = publish(setup, SSL_CERT_FILE=str(tmp_path / "roots.pem"))
    assert ran.status == 0, ran.err
    assert "Saltgrass Runtime 4.2.1.0 for Windows x86_64, by Ardvane Instruments" in ran.out
    assert "the signature of Ardvane Instruments" in " ".join(ran.out.split())


def test_every_unit_of_a_medium_becomes_a_package(
    publish: Callable[..., Ran], fundamen: Fundamen, windows: AWindowsMachine, tmp_path: Path
) -> None:
    disc = tmp_path / "disc.iso"
    disc.write_bytes(MEDIA["disc-of-archives.iso"])
    said = ("--publisher", "Ardvane", "--package", "Saltgrass", "--version", "4.2")
    ran = publish(disc, *said, "--media-digest", digest_of(disc), "--json")
    assert [record["package"] for record in ran.records] == [
        "Saltgrass 4.2 for Windows x86",
        "Saltgrass 4.2 for Windows x86_64",
    ]
    fingerprint = ran.records[0]["fingerprint"]
    assert fundamen("sources", "trust", str(tmp_path / "source"), "--fingerprint", fingerprint).status == 0
    offers = fundamen("sources", "offers", "salt.dll", "--for", "x86_64", "-m", str(windows.root), "--json")
    [record] = offers.records
    assert [(each["architecture"], each["eligible"]) for each in record["offers"]] == [("x86_64", True), ("x86", False)]


@pytest.mark.parametrize(
    ("name", "more", "said"),
    [
        ("salt.cab", ("--publisher", "Ardvane"), "Say so with --version"),
        ("folder", (), "--publisher, --package, --version, --place"),
        ("notes.txt", (), "it is no disc image"),
    ],
)
def test_what_is_not_said_is_asked_for(
    publish: Callable[..., Ran], tmp_path: Path, name: str, more: tuple[str, ...], said: str
) -> None:
    (tmp_path / "folder").mkdir()
    (tmp_path / "notes.txt").write_text("tides")
    (tmp_path / "salt.cab").write_bytes(MEDIA["salt.cab"])
    digest = ("--media-digest", digest_of(tmp_path / name)) if name != "folder" else ()
    assert said in publish(tmp_path / name, *more, *digest).err
    assert not (tmp_path / "source").exists()


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("Saltgrass Runtime 4", False),
        ("Saltgrass Developer Pack", True),
        ("Saltgrass 4 SDK", True),
        ("Saltgrass Targeting Pack (ENU)", True),
        ("libsaltgrass-dev", True),
        ("libsaltgrass4", False),
        ("Devon Tides", False),
    ],
)
def test_an_edition_for_developers_is_distinguished_from_the_runtime(name: str, expected: bool) -> None:  # noqa: FBT001
    assert is_for_developers(name) is expected


def a_debug_build(data: bytes) -> bytes:
    """The same with VS_FF_DEBUG in its version resource, and in the mask of the flags that count."""
    flags = data.index(struct.pack("<I", 0xFEEF04BD)) + 24
    return data[:flags] + struct.pack("<II", 0x3F, 0x1) + data[flags + 8 :]


def test_the_runtime_is_taken_and_no_newer_edition_for_developers(
    windows: AWindowsMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    def built(version: int, product: str) -> bytes:
        return a_pe(name="salt.dll", version=(4, version, 0, 0), product=product)

    runtime = built(1, "Saltgrass Runtime")
    editions = {
        "runtime.zip": a_zip({"salt.dll": runtime}),
        "pack.zip": a_zip({"salt.dll": built(2, "Saltgrass Developer Pack")}),
        "debug.zip": a_zip({"salt.dll": a_debug_build(built(3, "Saltgrass Runtime"))}),
    }
    medium = tmp_path / "medium.zip"
    medium.write_bytes(a_zip(editions))
    windows.system().program("C:\\App\\app.exe", needs=("salt.dll",))
    words = ("-m", str(windows.root), "--media", str(medium), "--media-digest", digest_of(medium))
    offers = fundamen("sources", "offers", "salt.dll", "--for", "x86_64", *words)
    assert " ".join(offers.out.split()).count(template("sources.is-the-edition-for-developers-not")) == 2
    assert fundamen("restore", "--yes", *words, "C:\\App\\app.exe").status == 0
    assert (windows.root / "App/salt.dll").read_bytes() == runtime
