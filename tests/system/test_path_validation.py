"""The published path-validation suite (PKITS): the same outcome in every test that applies."""

from datetime import UTC, datetime
from pathlib import Path

import pytest

from fundamen.model.errors import DamagedFileError
from fundamen.model.trust_store import StoredCertificate, StoreRole, TrustStores
from fundamen.trust.certificate import read_certificate
from fundamen.trust.chain import Issuers, Purpose, build_chain

pytestmark = pytest.mark.system
cryptography_vectors = pytest.importorskip("cryptography_vectors")

_SUITE = Path(cryptography_vectors.__file__).parent / "x509" / "PKITS_data"
NOW = datetime(2020, 1, 1, tzinfo=UTC)  # within the time of the suite's certificates
# A list that cannot be used leaves open whether a certificate was revoked, and then it counts: few machines have any.
UNKNOWN = [
    "BadCRLIssuerNameTest5",
    "BadCRLSignatureTest4",
    "IDPwithindirectCRLTest26",
    "MissingCRLTest1",
    "OldCRLnextUpdateTest11",
    "SeparateCertificateandCRLKeysTest21",
    "UnknownCRLExtensionTest10",
    "WrongCRLTest6",
    "deltaCRLIndicatorNoBaseTest1",
    "distributionPointTest3",
    "distributionPointTest8",
    "distributionPointTest9",
    "keyUsageCriticalcRLSignFalseTest4",
    "keyUsageNotCriticalcRLSignFalseTest5",
    "onlyContainsAttributeCertsTest14",
    "onlyContainsCACertsTest12",
    "onlyContainsUserCertsTest11",
    "onlySomeReasonsTest17",
    "pre2000CRLnextUpdateTest12",
]
# Lists by someone else than the issuer, and lists of what has changed since another: no one in our field has them.
INDIRECT = [
    "cRLIssuerTest27",
    "cRLIssuerTest31",
    "cRLIssuerTest32",
    "cRLIssuerTest35",
    "deltaCRLTest10",
    "deltaCRLTest5",
    "deltaCRLTest7",
]
# Refused, for what is not understood may forbid: policies that are mapped or demanded.
POLICIES = ("PolicyMapping", "inhibitAnyPolicy", "inhibitPolicyMapping", "requireExplicitPolicy")
# Refused: SHA-1 after 2016; a key without parameters of its own, which the library does not read.
REFUSED = ("DSASignaturesTest4", "DSAParameterInheritanceTest5")


def certificates() -> dict[str, bytes]:
    return {path.stem: path.read_bytes() for path in sorted((_SUITE / "certs").glob("*.crt"))}


@pytest.fixture(scope="module")
def issuers() -> Issuers:
    given = certificates()
    root = StoredCertificate(given.pop("TrustAnchorRootCertificate"), StoreRole.ROOT, "the machine's store")
    lists = tuple(path.read_bytes() for path in (_SUITE / "crls").glob("*.crl"))
    others = [StoredCertificate(der, StoreRole.ISSUER, name) for name, der in given.items() if not name.endswith("EE")]
    return Issuers(TrustStores((root,), lists), others)


def holds(der: bytes, issuers: Issuers) -> bool:
    try:
        return build_chain(read_certificate(der), issuers, Purpose.ANY, NOW, "the suite").holds
    except DamagedFileError:
        return False


TESTS = {
    name.removesuffix("EE"): der
    for name, der in certificates().items()
    if name.endswith("EE") and name.startswith(("Valid", "Invalid"))
}


def is_of(name: str, *groups: "list[str] | tuple[str, ...]") -> bool:
    return any(each in name for group in groups for each in group)


APPLY = [name for name in TESTS if not is_of(name, UNKNOWN, INDIRECT, POLICIES, REFUSED)]


def test_most_of_the_suite_applies() -> None:
    assert (len(TESTS), len(APPLY) > 120) == (203, True)


@pytest.mark.parametrize("name", APPLY)
def test_a_path_holds_exactly_if_it_should(name: str, issuers: Issuers) -> None:
    assert holds(TESTS[name], issuers) is name.startswith("Valid")


@pytest.mark.parametrize("name", [name for name in TESTS if is_of(name, POLICIES, REFUSED)])
def test_what_is_not_understood_is_never_believed(name: str, issuers: Issuers) -> None:
    assert not holds(TESTS[name], issuers)


@pytest.mark.parametrize("name", [name for name in TESTS if is_of(name, UNKNOWN)])
def test_where_no_list_can_be_used_nothing_but_revocation_is_left_open(name: str, issuers: Issuers) -> None:
    assert holds(TESTS[name], issuers) is True
