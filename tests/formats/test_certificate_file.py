"""Certificates in every form that they are handed around in."""

from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from ssl import PEM_cert_to_DER_cert

import pytest
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding, pkcs12
from cryptography.hazmat.primitives.serialization.pkcs7 import serialize_certificates
from cryptography.x509 import load_der_x509_certificate
from hypothesis import given
from hypothesis import strategies as st

from builders.signing import NOW, AnIssuer
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.certificates.certificate_file import (
    CertificateEncoding,
    looks_like_certificates,
    read_certificates,
)
from fundamen.formats.certificates.certificate_validity import read_end
from fundamen.model.errors import DamagedFileError

DATA = Path(__file__).parent.parent / "data"
ROOT, OTHER = AnIssuer.root(), AnIssuer.root("Marram Root")
BOTH = [ROOT.x509, OTHER.x509]
ARDVANE = PEM_cert_to_DER_cert((DATA / "ardvane-root.pem").read_text())
KEYSTORE = pkcs12.serialize_key_and_certificates(None, None, None, BOTH, BestAvailableEncryption(b"marram"))


@pytest.mark.parametrize(
    ("data", "kind", "count", "lists"),
    [
        (ROOT.der, CertificateEncoding.CERTIFICATE, 1, 0),
        (ROOT.pem, CertificateEncoding.CERTIFICATE, 1, 0),
        (b"Bag attributes\r\n" + ROOT.pem + b"\nkey\n" + OTHER.key_pem + OTHER.pem, CertificateEncoding.PEM, 2, 0),
        (serialize_certificates(BOTH, Encoding.DER), CertificateEncoding.SIGNED_DATA, 2, 0),
        (serialize_certificates(BOTH, Encoding.PEM), CertificateEncoding.PEM, 2, 0),
        (ROOT.revocations((OTHER, NOW)), CertificateEncoding.REVOCATION_LIST, 0, 1),
        (KEYSTORE, CertificateEncoding.PKCS12, 2, 0),
        ((DATA / "trust.p12").read_bytes(), CertificateEncoding.PKCS12, 1, 0),
        ((DATA / "trust.jks").read_bytes(), CertificateEncoding.JKS, 1, 0),
    ],
    ids=["DER", "PEM", "a chain in PEM", "bundle", "bundle in PEM", "revocations", "made here", "PKCS #12", "JKS"],
)
def test_every_form_is_read(data: bytes, kind: CertificateEncoding, count: int, lists: int) -> None:
    assert looks_like_certificates(data[:4096])
    held = read_certificates(MemoryBytes(data), "marram" if data is KEYSTORE else "")
    assert (held.kind, len(held.certificates), len(held.revocation_lists)) == (kind, count, lists)
    assert set(held.certificates) <= {ROOT.der, OTHER.der, ARDVANE}


@pytest.mark.parametrize(
    "data",
    [b"", b"\x30\x03\x02\x01\x05", b"\xfe\xed\xfe\xed", b"-----BEGIN X-----", ROOT.key_pem],
    ids=["empty", "a number", "a mark alone", "another thing in PEM", "a key"],
)
def test_what_holds_no_certificates_is_refused(data: bytes) -> None:
    with pytest.raises(DamagedFileError):
        read_certificates(MemoryBytes(data))


@pytest.mark.parametrize("name", ["trust.p12", "trust.jks"])
def test_an_altered_keystore_is_refused(name: str) -> None:
    data = bytearray((DATA / name).read_bytes())
    data[len(data) // 2] ^= 1
    with pytest.raises(DamagedFileError, match="password is another one"):
        read_certificates(MemoryBytes(bytes(data)))


@pytest.mark.parametrize(
    "head", [b"#!/bin/sh\n-----BEGIN CERTIFICATE-----\n", b"0a text", b"MZ\0-----BEGIN X", b"", b"0"]
)
def test_what_only_mentions_certificates_is_no_file_of_them(head: bytes) -> None:
    assert not looks_like_certificates(head)


def test_until_when_a_certificate_is_valid_is_read_as_the_library_reads_it() -> None:
    for year in (1999, 2026, 2049, 2050, 2101):
        issuer = AnIssuer.root(ends=datetime(year, 2, 3, 4, 5, 6, tzinfo=UTC), begins=datetime(1998, 1, 1, tzinfo=UTC))
        assert read_end(issuer.der) == issuer.x509.not_valid_after_utc
    assert read_end(ARDVANE) == load_der_x509_certificate(ARDVANE).not_valid_after_utc


@given(st.integers(0, len(ROOT.der) - 1), st.binary(max_size=2))
def test_a_damaged_certificate_has_an_end_or_is_refused(at: int, instead: bytes) -> None:
    with suppress(DamagedFileError):
        assert read_end(ROOT.der[:at] + instead + ROOT.der[at + 1 :]).tzinfo is UTC
    with suppress(DamagedFileError):
        assert read_end(ROOT.der[:at]) == ROOT.x509.not_valid_after_utc
