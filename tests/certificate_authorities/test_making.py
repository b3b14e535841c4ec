"""Certificates of an authority are valid under its new certificate; its entry is kept in a readable form."""

import base64
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from hypothesis import given
from hypothesis import strategies as st

from builders.signing import AnIssuer
from fundamen.certificate_authorities.making import new_authority, read_key, reissue, renew_authority
from fundamen.changes.directory_entries import ldif
from fundamen.model.errors import DamagedFileError, UntrustedError, UsageError
from fundamen.trust.certificate import read_certificate
from fundamen.trust.checking import is_signed_by

LATER = datetime.now(UTC) + timedelta(days=1)


def test_what_was_issued_holds_under_the_new_certificate_and_what_is_issued_again_under_both() -> None:
    authority = AnIssuer.root("Marram CA")
    issued = authority.issue("gauge")
    made = read_certificate(renew_authority(authority.certificate, authority.key, LATER, years=5))
    assert made.subject == authority.certificate.subject
    assert made.is_authority
    assert made.sha256 != authority.certificate.sha256
    assert is_signed_by(issued.certificate, made)
    assert is_signed_by(made, made)
    again = read_certificate(reissue(issued.certificate, made, authority.key, LATER, days=90))
    assert (again.subject, again.purposes, again.names) == (
        issued.certificate.subject, issued.certificate.purposes, issued.certificate.names,
    )  # fmt: skip
    assert is_signed_by(again, authority.certificate)
    assert again.not_after <= LATER + timedelta(days=90)


def test_another_key_another_issuer_and_an_authority_below_another_are_refused() -> None:
    authority, other = AnIssuer.root("Marram CA"), AnIssuer.root("Ebb CA")
    with pytest.raises(UntrustedError, match="not renewed"):
        renew_authority(authority.certificate, other.key, LATER, years=5)
    with pytest.raises(UntrustedError, match="not issued again"):
        reissue(other.issue("gauge").certificate, authority.certificate, authority.key, LATER, days=9)
    below = authority.issue("Marram CA 2", authority=True)
    with pytest.raises(UsageError, match="cannot be renewed with its own key"):
        renew_authority(below.certificate, below.key, LATER, years=5)
    with pytest.raises(UsageError, match="cannot be made"):
        new_authority("no name", authority.key, LATER, years=5)
    key = ec.generate_private_key(ec.SECP256R1())
    named = read_certificate(new_authority("CN=Marram CA,O=Marram", key, LATER, years=5))
    assert (named.subject.whole, named.is_authority, is_signed_by(named, named)) == (
        "CN=Marram CA,O=Marram",
        True,
        True,
    )


HARBOURS = x509.NameConstraints([x509.DNSName("marram.example")], None)


@pytest.mark.parametrize(
    ("authority", "issued", "why"),
    [
        ({}, {"signed_by": AnIssuer.root("Forger").key}, "was not signed with the authority's key"),
        ({"path_length": 0}, {"authority": True}, "may not make any"),
        ({"extensions": [(HARBOURS, True)]}, {"dns": ["tides.example"]}, "may not speak for the name tides.example"),
    ],
    ids=["forged", "an authority below one that may make none", "a name that the authority may not speak for"],
)
def test_what_an_authority_could_not_issue_by_right_it_does_not_issue_again(
    authority: dict[str, Any], issued: dict[str, Any], why: str
) -> None:
    marram = AnIssuer.root("Marram CA", **authority)
    with pytest.raises(UntrustedError) as raised:
        reissue(marram.issue("gauge", **issued).certificate, marram.certificate, marram.key, LATER, days=9)
    assert why in raised.value.why


@given(st.binary(max_size=400))
def test_bytes_that_are_no_key_are_refused(data: bytes) -> None:
    with pytest.raises((DamagedFileError, UsageError)):
        read_key(data, "it", "")


@given(st.dictionaries(st.from_regex(r"[a-z]{1,9}", fullmatch=True), st.lists(st.binary(max_size=200), max_size=3)))
def test_an_entry_reads_back_from_its_ldif(attributes: dict[str, list[bytes]]) -> None:
    """By the rules of RFC 2849: lines that begin with a blank go on, "::" is Base64."""
    lines = ldif("cn=Marram CA", {name: tuple(values) for name, values in attributes.items()}).decode("ascii")
    assert all(len(line) <= 76 for line in lines.splitlines())
    read: dict[str, list[bytes]] = {}
    for line in lines.replace("\n ", "").splitlines()[2:]:
        name, _, value = line.partition(":")
        is_coded = value.startswith(":")
        read.setdefault(name, []).append(base64.b64decode(value[2:]) if is_coded else value[1:].encode())
    assert read == {name: values for name, values in attributes.items() if values}
