"""Which chain is found, which link of it fails, and what would mend it."""

from datetime import timedelta
from typing import Any

import pytest
from cryptography import x509
from cryptography.x509.oid import NameOID

from builders.signing import CODE, NOW, SERVERS, AnIssuer
from fundamen.messages import say
from fundamen.model.trust_store import StoredCertificate, StoreRole, TrustStores
from fundamen.trust.certificate import name_key
from fundamen.trust.chain import Chain, ChainStanding, Issuers, Purpose, build_chain
from fundamen.trust.name_constraints import find_forbidden_name
from fundamen.trust.remedy import find_root_to_import, remedy
from wording import says

A_DAY = timedelta(days=1)
ROOT = AnIssuer.root()


def held(*issuers: AnIssuer, role: StoreRole = StoreRole.ISSUER, **facts: Any) -> tuple[StoredCertificate, ...]:
    return tuple(StoredCertificate(each.der, role, f"the store {role}", **facts) for each in issuers)


def chain(
    signer: AnIssuer, *stored: StoredCertificate, purpose: Purpose = Purpose.CODE_SIGNING, at: Any = NOW
) -> Chain:
    return build_chain(signer.certificate, Issuers(TrustStores(stored)), purpose, at, "the file")


def below_root(**authority: Any) -> tuple[AnIssuer, AnIssuer]:
    """(an authority below the root, a signer below it)."""
    middle = ROOT.issue("Middle", **{"authority": True, **authority})
    return middle, middle.issue("Signer", purposes=[CODE])


MAY_NOT_SIGN = x509.KeyUsage(
    digital_signature=True,
    key_cert_sign=False,
    crl_sign=False,
    content_commitment=False,
    key_encipherment=False,
    data_encipherment=False,
    key_agreement=False,
    encipher_only=False,
    decipher_only=False,
)
FOR_HARBOURS = x509.NameConstraints([x509.DNSName("marram.example")], None)
UNKNOWN = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.2.3.4"), b"\x05\x00")


@pytest.mark.parametrize(
    ("authority", "standing", "reason"),
    [
        ({}, ChainStanding.HOLDS, ""),
        ({"ends": NOW - A_DAY}, ChainStanding.EXPIRED, "expired on 2026-05-31"),
        ({"begins": NOW + A_DAY}, ChainStanding.NOT_YET_VALID, "valid only from 2026-06-02"),
        ({"authority": False}, ChainStanding.NOT_AN_AUTHORITY, "not one of an authority"),
        ({"extensions": [(MAY_NOT_SIGN, True)]}, ChainStanding.NOT_AN_AUTHORITY, "does not let it sign"),
        ({"purposes": [SERVERS]}, ChainStanding.WRONG_PURPOSE, "may not be used for signing programs"),
        ({"extensions": [(UNKNOWN, True)]}, ChainStanding.NOT_UNDERSTOOD, "1.2.3.4"),
        (
            {"signed_by": AnIssuer.root("Other").key},
            ChainStanding.BAD_SIGNATURE,
            "not signed with the key of Ardvane Root R1",
        ),
    ],
)
def test_the_link_that_fails_is_named_with_its_reason(
    authority: dict[str, Any], standing: ChainStanding, reason: str
) -> None:
    middle, signer = below_root(**authority)
    found = chain(signer, *held(ROOT, role=StoreRole.ROOT), *held(middle))
    assert (found.failing.standing if found.failing else ChainStanding.HOLDS) is standing
    assert reason in found.why
    assert bool(remedy(found)) is not found.holds


@pytest.mark.parametrize(
    ("stored", "standing", "why"),
    [
        ((), ChainStanding.ISSUER_MISSING, "the certificate of the intermediate authority Middle is missing"),
        (("middle",), ChainStanding.ISSUER_MISSING, "the certificate of the root Ardvane Root R1 is missing"),
        (("middle", "root"), ChainStanding.ROOT_NOT_TRUSTED, "the root Ardvane Root R1 is not trusted by this machine"),
        (
            ("middle", "user"),
            ChainStanding.ROOT_NOT_TRUSTED,
            "only in the store user's root, and not among those of the",
        ),
    ],
)
def test_what_is_missing_at_the_top_is_named(stored: tuple[str, ...], standing: ChainStanding, why: str) -> None:
    middle, signer = below_root()
    kinds = {"middle": held(middle), "root": held(ROOT), "user": held(ROOT, role=StoreRole.USERS_ROOT)}
    found = chain(signer, *(each for kind in stored for each in kinds[kind]))
    assert found.failing is not None
    assert found.failing.standing is standing
    assert why in found.why
    assert (find_root_to_import(found) == ROOT.certificate) is (standing is ChainStanding.ROOT_NOT_TRUSTED)


def test_a_root_that_the_system_fetches_by_itself_is_trusted() -> None:
    middle, signer = below_root()
    stores = TrustStores(held(middle, ROOT), on_demand=frozenset({bytes.fromhex(ROOT.certificate.sha1)}))
    found = build_chain(signer.certificate, Issuers(stores), Purpose.CODE_SIGNING, NOW, "the file")
    assert (found.holds, found.links[-1].where) == (True, say("trust.the-system-list-of-roots"))


def test_a_store_may_trust_a_root_for_some_purposes_only() -> None:
    middle, signer = below_root()
    restricted = held(ROOT, role=StoreRole.ROOT, purposes=frozenset({SERVERS}))
    assert says(chain(signer, *restricted, *held(middle)).why, "trust.trusts-it-but-not-for", words="signing programs")


def test_of_two_ways_up_the_one_that_holds_is_taken() -> None:
    old_root = AnIssuer.root("Old Root", ends=NOW - A_DAY)
    middle = ROOT.issue("Middle", authority=True)
    crossed = old_root.issue("Middle", authority=True, key=middle.key)
    signer = middle.issue("Signer", purposes=[CODE])
    for order in ((middle, crossed), (crossed, middle)):
        found = chain(signer, *held(ROOT, old_root, role=StoreRole.ROOT), *held(*order))
        assert [link.certificate.subject.shown for link in found.links] == ["Signer", "Middle", "Ardvane Root R1"]


def test_authorities_that_vouch_for_each_other_lead_nowhere_and_to_an_end() -> None:
    first, second = AnIssuer.root("First"), AnIssuer.root("Second")
    crossed = [
        first.issue("Second", authority=True, key=second.key),
        second.issue("First", authority=True, key=first.key),
    ]
    many = [first.issue("First", authority=True, key=first.key) for _ in range(60)]
    found = chain(first.issue("Signer", purposes=[CODE]), *held(*crossed, *many))
    assert not found.holds


def test_no_more_authorities_may_stand_below_one_than_it_allows() -> None:
    upper = ROOT.issue("Upper", authority=True, path_length=0)
    lower = upper.issue("Lower", authority=True)
    signer = lower.issue("Signer", purposes=[CODE])
    assert says(
        chain(signer, *held(ROOT, role=StoreRole.ROOT), *held(upper, lower)).why,
        "trust.authorities-are-below-it-and-it",
    )
    direct = upper.issue("Signer", purposes=[CODE])
    assert chain(direct, *held(ROOT, role=StoreRole.ROOT), *held(upper)).holds


@pytest.mark.parametrize(("name", "holds"), [("berth.marram.example", True), ("marram.example.evil.example", False)])
def test_an_authority_speaks_only_for_the_names_it_may(name: str, holds: bool) -> None:  # noqa: FBT001
    middle = ROOT.issue("Middle", authority=True, extensions=[(FOR_HARBOURS, True)])
    server = middle.issue("Server", purposes=[SERVERS], dns=[name])
    found = chain(server, *held(ROOT, role=StoreRole.ROOT), *held(middle), purpose=Purpose.TLS_SERVER)
    assert found.holds is holds
    assert holds or name in found.why


def test_a_signer_whose_own_certificate_is_a_trusted_root_needs_no_one_above() -> None:
    assert chain(ROOT, *held(ROOT, role=StoreRole.ROOT), purpose=Purpose.ANY).holds


def named(*parts: tuple[x509.ObjectIdentifier, str]) -> x509.Name:
    return x509.Name([x509.NameAttribute(oid, value) for oid, value in parts])


def test_two_names_are_the_same_only_with_their_parts_in_one_order() -> None:
    organization, unit = (NameOID.ORGANIZATION_NAME, "Marram"), (NameOID.ORGANIZATIONAL_UNIT_NAME, "Tides")
    assert name_key(named(organization, unit)) != name_key(named(unit, organization))
    assert name_key(named(organization, organization)) != name_key(named(organization))
    assert name_key(named((organization[0], " MARRAM  Sound "))) == name_key(named((organization[0], "Marram Sound")))


@pytest.mark.parametrize(("mail", "may"), [("wren@marram.example", True), ("wren@tides.example", False)])
def test_an_address_of_mail_in_a_subject_obeys_the_rules_for_such_addresses(mail: str, *, may: bool) -> None:
    harbours = x509.NameConstraints([x509.RFC822Name("marram.example")], None)
    authority = AnIssuer.root("Marram CA", extensions=[(harbours, True)])
    subject = named((NameOID.COMMON_NAME, "Wren"), (NameOID.EMAIL_ADDRESS, mail))
    signer = authority.issue("Wren", subject=subject)
    assert (find_forbidden_name(authority.certificate, signer.certificate) is None) is may
