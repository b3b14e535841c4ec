"""A root is imported into the machine's store, once its fingerprint was confirmed, and taken out again."""

import shlex
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.machine import ALinuxMachine, AWindowsMachine, a_copy
from builders.pe import a_pe
from builders.signing import APublisher
from conftest import Fundamen
from fundamen.changes.insertions import certificate_block, without
from fundamen.formats.windows.hive import with_values
from fundamen.formats.windows.registry_value import HiveValue
from fundamen.formats.windows.text_hive import TextHive, with_key, without_key
from fundamen.trust.name_hash import name_hash
from wording import says

PUBLISHER = APublisher()
BUNDLE = "/etc/ssl/certs/ca-certificates.crt"
FINGERPRINT = PUBLISHER.root.certificate.sha256
KNOWN = APublisher().root.pem


@pytest.fixture
def office(linux: ALinuxMachine, tmp_path: Path) -> ALinuxMachine:
    """A machine that does not trust the publisher of a package; the publisher's root lies in root.cer."""
    (tmp_path / "root.cer").write_bytes(PUBLISHER.root.der)
    linux.file(BUNDLE, KNOWN).file("/etc/ssl/certs/00000000.0", KNOWN)
    return linux.file("/opt/chain.pem", PUBLISHER.signer.pem + PUBLISHER.authority.pem)


def importing(*words: str) -> tuple[str, ...]:
    return ("roots", "import", "--issuer", "root.cer", *words, "/opt/chain.pem")


def test_a_root_is_imported_proven_and_taken_out_again(
    office: ALinuxMachine, fundamen: Fundamen, tmp_path: Path
) -> None:
    before = a_copy(tmp_path / "before", office.root)
    machine = ("-m", str(office.root))
    missing = fundamen("inspect", *machine, "/opt/chain.pem")
    assert (missing.status, "Ardvane Root R1" in missing.out) == (1, True)
    ran = fundamen(*importing("--yes", "--fingerprint", FINGERPRINT.upper()), *machine)
    assert ran.status == 0, ran.err
    assert "Imported: the machine trusts Ardvane Root R1. The chain of chain.pem holds." in ran.out
    assert fundamen("inspect", *machine, "/opt/chain.pem").status == 0
    assert fundamen(*importing(), *machine).out.startswith("There is nothing to import")
    assert fundamen("undo", *machine).status == 0
    assert tree(office.root) == tree(before)


def tree(root: Path) -> dict[str, bytes]:
    return {str(path.relative_to(root)): path.read_bytes() for path in sorted(root.rglob("*")) if path.is_file()}


def test_the_command_that_inspecting_offers_imports_the_root(office: ALinuxMachine, fundamen: Fundamen) -> None:
    shown = fundamen("inspect", "-m", str(office.root), "--issuer", "root.cer", "/opt/chain.pem")
    [offered] = [line.strip() for line in shown.out.splitlines() if "roots import" in line]
    words = shlex.split(offered.replace("SHA256", FINGERPRINT))[1:]
    ran = fundamen(*words, "--yes")
    assert (shown.status, ran.status) == (1, 0), ran.out + ran.err


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("--yes", "--fingerprint", "0" * 64), 4, "is not the root's"),
        (("--yes", "--fingerprint", "1234"), 2, "64 hexadecimal digits"),
        (("--yes",), 1, "Nothing was imported. Have the fingerprint read out"),
        (("--rehearse",), 1, "its chain then holds"),
    ],
)
def test_nothing_is_imported_without_the_whole_fingerprint(
    office: ALinuxMachine, fundamen: Fundamen, words: tuple[str, ...], status: int, said: str
) -> None:
    before = tree(office.root)
    ran = fundamen(*importing(*words), "-m", str(office.root))
    assert (ran.status, said in ran.out + ran.err) == (status, True), ran.out + ran.err
    assert FINGERPRINT[:4] + " " + FINGERPRINT[4:8] not in ran.out
    assert tree(office.root) == before


def test_what_importing_a_root_would_not_mend_is_said(office: ALinuxMachine, fundamen: Fundamen) -> None:
    office.file("/opt/leaf.pem", PUBLISHER.signer.pem).file("/opt/plain.exe", a_pe())
    machine = ("-m", str(office.root))
    assert says(fundamen("roots", "import", "/opt/leaf.pem", *machine).err, "restore.importing-a-root-would-not-make")
    assert says(fundamen("roots", "import", "/opt/plain.exe", *machine).err, "restore.it-has-no-signature-and-no")


def test_a_bundle_that_was_written_again_keeps_what_else_is_in_it(office: ALinuxMachine, fundamen: Fundamen) -> None:
    machine = ("-m", str(office.root))
    assert fundamen(*importing("--yes", "--fingerprint", FINGERPRINT), *machine).status == 0
    other = APublisher().root.pem
    bundle = office.root / BUNDLE.lstrip("/")
    bundle.write_bytes(other + bundle.read_bytes())
    assert fundamen("undo", *machine).status == 0
    assert bundle.read_bytes() == other + KNOWN


@pytest.fixture
def volume(windows: AWindowsMachine, tmp_path: Path) -> AWindowsMachine:
    """The same as a Windows volume, with an entry for someone else in its store."""
    (tmp_path / "root.cer").write_bytes(PUBLISHER.root.der)
    windows.registry({"Microsoft": {"SystemCertificates": {"ROOT": {"Certificates": {"AB": {"Blob": b"x"}}}}}})
    return windows.file("C:\\chain.pem", PUBLISHER.signer.pem + PUBLISHER.authority.pem)


def on(volume: AWindowsMachine, *words: str) -> tuple[str, ...]:
    return ("roots", "import", "--issuer", "root.cer", *words, "-m", str(volume.root), "C:\\chain.pem")


def test_a_root_goes_into_the_registry_of_a_windows_volume_and_out_of_it(
    volume: AWindowsMachine, fundamen: Fundamen
) -> None:
    before = tree(volume.root)
    ran = fundamen(*on(volume, "--yes", "--fingerprint", FINGERPRINT))
    assert ran.status == 0, ran.out + ran.err
    assert fundamen("inspect", "-m", str(volume.root), "C:\\chain.pem").status == 0
    assert fundamen("undo", "-m", str(volume.root)).status == 0
    assert tree(volume.root) == before


def test_undo_takes_only_the_root_out_of_a_registry_in_which_windows_has_written_since(
    volume: AWindowsMachine, fundamen: Fundamen
) -> None:
    assert fundamen(*on(volume, "--yes", "--fingerprint", FINGERPRINT)).status == 0
    hive = volume.root / "Windows/System32/config/SOFTWARE"
    hive.write_bytes(with_values(hive.read_bytes(), "Reed", {"Since": HiveValue(1, b"")}, 7))
    assert fundamen("undo", "-m", str(volume.root)).status == 0
    registry = volume.opened().registry
    assert registry.subkeys("HKLM\\Software\\Microsoft\\SystemCertificates\\Root\\Certificates") == ("AB",)
    assert registry.value("HKLM\\Software\\Reed", "Since") == ""


def test_no_root_goes_into_the_registry_of_a_windows_that_is_not_shut_down(
    volume: AWindowsMachine, fundamen: Fundamen
) -> None:
    hive = volume.root / "Windows/System32/config/SOFTWARE"
    whole = hive.read_bytes()
    hive.write_bytes(whole[:4] + b"\x02" + whole[5:508] + bytes([whole[508] ^ 3]) + whole[509:])
    ran = fundamen(*on(volume, "--yes", "--fingerprint", FINGERPRINT))
    assert (ran.status, says(ran.err, "formats.it-was-not-closed-cleanly-its")) == (3, True), ran.err
    hive.write_bytes(whole)
    volume.file("C:\\hiberfil.sys", b"HIBR" + bytes(100))
    ran = fundamen(*on(volume, "--yes", "--fingerprint", FINGERPRINT))
    assert (ran.status, "is hibernated" in ran.err) == (2, True), ran.err
    assert hive.read_bytes() == whole


def test_a_root_is_removed_wherever_a_debian_machine_has_it_and_an_undo_brings_it_back(
    linux: ALinuxMachine, fundamen: Fundamen
) -> None:
    ours, others = PUBLISHER.root.pem, [APublisher().root.pem for _ in range(3)]
    hashed = name_hash(PUBLISHER.root.der)
    shipped = ("etc/ca-certificates.conf", "# chosen\nmozilla/known.crt\nvendor/ardvane.crt\n")
    linux.file(BUNDLE, others[0] + ours + others[1]).file("/" + shipped[0], shipped[1].encode())
    linux.file("/usr/share/ca-certificates/vendor/ardvane.crt", ours)
    linux.file("/usr/share/ca-certificates/mozilla/known.crt", others[0])
    linux.file("/usr/local/share/ca-certificates/ardvane.crt", ours)
    linux.link("/etc/ssl/certs/ardvane.pem", "/usr/share/ca-certificates/vendor/ardvane.crt")
    linux.link(f"/etc/ssl/certs/{hashed}.0", "ardvane.pem").file(f"/etc/ssl/certs/{hashed}.1", others[2])
    machine, before = ("-m", str(linux.root)), tree(linux.root)
    [listed] = fundamen("roots", "list", "--find", "ardvane root", "--json", *machine).records
    assert [each["sha256"] for each in listed["roots"] if each["sha256"] == FINGERPRINT] == [FINGERPRINT]
    assert fundamen("roots", "remove", FINGERPRINT[:12], "--rehearse", *machine).status == 1
    assert tree(linux.root) == before
    ran = fundamen("roots", "remove", FINGERPRINT[:12], "--yes", *machine)
    assert ran.status == 0, ran.out + ran.err
    after = tree(linux.root)
    assert after[BUNDLE.lstrip("/")] == others[0] + others[1]
    assert after[shipped[0]] == b"# chosen\nmozilla/known.crt\n!vendor/ardvane.crt\n"
    assert after[f"etc/ssl/certs/{hashed}.0"] == others[2]  # the first number of a hash must not be missing
    counted = {name for name in after if name.endswith((".pem", ".crt", ".0", ".1")) and after[name] == ours}
    assert counted == {"usr/share/ca-certificates/vendor/ardvane.crt"}
    assert fundamen("undo", *machine).status == 0
    assert tree(linux.root) == before


@pytest.mark.parametrize("named", ["ab12", "0" * 12, "Nobody Root"])
def test_a_root_that_is_not_trusted_is_not_removed(office: ALinuxMachine, fundamen: Fundamen, named: str) -> None:
    ran = fundamen("roots", "remove", named, "--yes", "-m", str(office.root))
    assert (ran.status, says(ran.err, "restore.trusts-no-such-root")) == (2, True), ran.err


def test_a_root_is_removed_from_the_registry_of_a_windows_volume_and_an_undo_brings_it_back(
    volume: AWindowsMachine, fundamen: Fundamen
) -> None:
    machine = ("-m", str(volume.root))
    assert fundamen(*on(volume, "--yes", "--fingerprint", FINGERPRINT)).status == 0
    imported = tree(volume.root)
    assert fundamen("roots", "remove", FINGERPRINT[:16], "--yes", *machine).status == 0
    assert fundamen("inspect", *machine, "C:\\chain.pem").status == 1
    assert fundamen("undo", *machine).status == 0
    assert tree(volume.root) == imported
    assert fundamen("inspect", *machine, "C:\\chain.pem").status == 0


TEXT = st.text(st.characters(codec="utf-8", exclude_characters="\r"), max_size=40)


@given(before=TEXT, after=TEXT)
def test_a_key_goes_into_a_hive_and_out_of_it_and_nothing_else_changes(before: str, after: str) -> None:
    hive = f'WINE REGISTRY Version 2\n\n[Tide] 1\n"A"="{before}"\n'.encode()
    added = with_key(hive, "Salt\\Grass", {"Blob": b"\1\2"}, 7)
    assert TextHive(added).values("salt\\grass") == {"Blob": b"\1\2"}
    grown = added + f"\n[Reed] 2\n{after}\n".encode()
    assert without_key(added, "Salt\\Grass") == hive
    assert without_key(grown, "SALT\\Grass") == hive + f"\n[Reed] 2\n{after}\n".encode()


@given(st.binary(max_size=60), st.binary(max_size=60))
def test_a_certificate_goes_into_a_bundle_and_out_of_it(before: bytes, after: bytes) -> None:
    block, insertion = certificate_block(PUBLISHER.root.der)
    assert without(before + block + after, insertion) == before + after
