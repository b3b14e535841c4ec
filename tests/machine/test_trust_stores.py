"""Whom a machine trusts, read from wherever it keeps that."""

import struct

import pytest

from builders.machine import ALinuxMachine, AWindowsMachine
from builders.signing import AnIssuer
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.messages import say
from fundamen.model.trust_store import StoreRole
from wording import says

ROOT, OTHER = AnIssuer.root(), AnIssuer.root("Marram Root")
BUNDLE = "/etc/ssl/certs/ca-certificates.crt"


def stored(issuer: AnIssuer, **properties: bytes) -> bytes:
    """A certificate as the registry keeps it, behind other properties."""
    uses = properties.get("uses")
    parts = [(3, bytes(20)), *([(9, uses)] if uses else []), (32, issuer.der)]
    return b"".join(struct.pack("<III", number, 1, len(data)) + data for number, data in parts)


def roles(machine: ALinuxMachine | AWindowsMachine, **environment: str) -> list[tuple[bytes, StoreRole, str]]:
    return [(c.der, c.role, c.where) for c in read_trust_stores(machine.opened(**environment)).certificates]


def test_a_linux_machine_trusts_the_roots_of_its_bundle(linux: ALinuxMachine) -> None:
    linux.file(BUNDLE, b"# Marram\n" + ROOT.pem + OTHER.pem)
    assert roles(linux) == [(ROOT.der, StoreRole.ROOT, BUNDLE), (OTHER.der, StoreRole.ROOT, BUNDLE)]


def test_a_variable_names_another_bundle(linux: ALinuxMachine) -> None:
    linux.file(BUNDLE, ROOT.pem).file("/opt/roots.pem", OTHER.pem)
    assert roles(linux, SSL_CERT_FILE="/opt/roots.pem") == [(OTHER.der, StoreRole.ROOT, "/opt/roots.pem")]


def test_single_files_count_where_there_is_no_bundle(linux: ALinuxMachine) -> None:
    linux.file("/etc/ssl/certs/ardvane.pem", ROOT.pem).file("/etc/ssl/certs/README", b"no certificate")
    assert [der for der, _, _ in roles(linux)] == [ROOT.der]


def test_a_root_that_was_added_but_not_taken_over_is_no_root_yet(linux: ALinuxMachine) -> None:
    linux.file(BUNDLE, ROOT.pem).file("/usr/local/share/ca-certificates/marram.crt", OTHER.pem)
    assert [role for _, role, _ in roles(linux)] == [StoreRole.ROOT, StoreRole.ISSUER]


def test_a_damaged_bundle_is_a_gap(linux: ALinuxMachine) -> None:
    linux.file(BUNDLE, b"-----BEGIN CERTIFICATE-----\n!!\n-----END CERTIFICATE-----\n")
    stores = read_trust_stores(linux.opened())
    assert stores.certificates == ()
    assert says(stores.gaps[0], "formats.one-of-its-blocks-is-not")


def test_the_stores_of_a_windows_volume_are_distinguished(windows: AWindowsMachine) -> None:
    for_servers = bytes.fromhex("300a06082b06010505070301")
    windows.registry(
        {
            "Microsoft": {
                "SystemCertificates": {
                    "Root": {"Certificates": {"AA": {"Blob": stored(ROOT, uses=for_servers)}}},
                    "CA": {"Certificates": {"BB": {"Blob": stored(OTHER)}}},
                    "Disallowed": {"Certificates": {"CC": {"Blob": stored(OTHER)}}},
                }
            }
        }
    )
    found = read_trust_stores(windows.opened()).certificates
    assert {(c.der, c.role, c.where, c.purposes) for c in found} == {
        (ROOT.der, StoreRole.ROOT, "the machine's store Root", frozenset({"1.3.6.1.5.5.7.3.1"})),
        (OTHER.der, StoreRole.ISSUER, "the machine's store CA", None),
        (OTHER.der, StoreRole.DISTRUSTED, "the machine's store Disallowed", None),
    }


def test_a_root_of_one_user_is_distinguished_from_one_of_the_machine(windows: AWindowsMachine) -> None:
    from builders.hive import a_hive  # noqa: PLC0415

    keys = {"Microsoft": {"SystemCertificates": {"Root": {"Certificates": {"AA": {"Blob": stored(ROOT)}}}}}}
    windows.registry({}).file("C:\\Users\\harbour\\NTUSER.DAT", a_hive({"Software": keys}))
    assert roles(windows) == [
        (ROOT.der, StoreRole.USERS_ROOT, say("machine.the-store-of-the-user", name="harbour Root"))
    ]


def test_a_prefix_keeps_its_stores_as_text_and_has_the_roots_of_its_host(windows: AWindowsMachine) -> None:
    key = "Software\\\\Microsoft\\\\SystemCertificates\\\\Root\\\\Certificates\\\\AA"
    blob = ",".join(f"{byte:02x}" for byte in stored(ROOT))
    text = f'WINE REGISTRY Version 2\n\n[{key}] 1\n"Blob"=hex:{blob}\n'
    (windows.root / "system.reg").write_text(text)
    (windows.root / "drive_c").symlink_to(windows.root)
    found = read_trust_stores(windows.opened())
    assert (ROOT.der, StoreRole.ROOT) in [(c.der, c.role) for c in found.certificates]


@pytest.mark.parametrize("size", [0, 11, 12, 40, 300])
def test_a_damaged_blob_is_a_gap_or_nothing(windows: AWindowsMachine, size: int) -> None:
    damaged = {"AA": {"Blob": stored(ROOT)[:size]}, "BB": {"Blob": stored(OTHER)}}
    windows.registry({"Microsoft": {"SystemCertificates": {"Root": {"Certificates": damaged}}}})
    assert [der for der, _, _ in roles(windows)] == [OTHER.der]
