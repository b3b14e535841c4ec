"""From whom a file is: signatures, timestamps, catalogues; what is changed shows."""

from datetime import timedelta
from typing import Any

import pytest
from cryptography import x509
from hypothesis import given
from hypothesis import strategies as st

from builders.pe import a_pe
from builders.signing import CODE, NOW, STAMPS, AnIssuer, APublisher, a_catalogue, with_signature
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import read_pe
from fundamen.formats.windows.pe_certificates import image_digest
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError
from fundamen.model.trust_store import StoreRole
from fundamen.trust.chain import Issuers
from fundamen.trust.publisher import Publisher, SignatureStanding, judge_listed
from fundamen.trust.signed_file import judge_file
from wording import says

PUBLISHER = APublisher()
PROGRAM = a_pe(needs=["SALT.dll"])
AN_HOUR, YEARS = timedelta(hours=1), timedelta(days=730)


def judged(data: bytes, issuers: Issuers | None = None, now: Any = NOW) -> Publisher:
    source = MemoryBytes(data, "tidebook.exe")
    return judge_file(source, read_pe(source), issuers or PUBLISHER.machine_trusts(), now)


def test_a_signed_file_is_trusted_where_the_machine_trusts_its_root() -> None:
    publisher = judged(PUBLISHER.sign(PROGRAM))
    assert (publisher.verdict, publisher.name, publisher.reason) == (
        SignatureStanding.TRUSTED,
        "Ardvane Instruments",
        "",
    )
    [signature] = publisher.signatures
    assert signature.chain is not None
    assert [link.certificate.subject.shown for link in signature.chain.links] == [
        "Ardvane Instruments",
        "Ardvane Code CA",
        "Ardvane Root R1",
    ]


def test_no_one_signed_an_unsigned_file() -> None:
    assert judged(PROGRAM).verdict is SignatureStanding.UNSIGNED


def test_every_changed_byte_of_what_is_covered_shows() -> None:
    signed = PUBLISHER.sign(PROGRAM, stamped_at=NOW)
    issuers = PUBLISHER.machine_trusts()
    covered = len(PROGRAM) + 8  # the file, and the header of the table's entry
    passed = []
    for at in range(0, covered, 7):
        changed = signed[:at] + bytes([signed[at] ^ 1]) + signed[at + 1 :]
        try:
            if judged(changed, issuers).verdict is SignatureStanding.TRUSTED:
                passed.append(at)
        except DamagedFileError:
            continue
    checksum_at = int.from_bytes(PROGRAM[0x3C:0x40], "little") + 24 + 64
    revision_at = len(PROGRAM) + 4
    assert all(checksum_at <= at < checksum_at + 4 or revision_at <= at < revision_at + 2 for at in passed)


@given(at=st.integers(0, 2500), noise=st.binary(max_size=6), removed=st.integers(0, 6))
def test_a_changed_signature_never_makes_another_publisher_trusted(at: int, noise: bytes, removed: int) -> None:
    blob = PUBLISHER.signature_of(PROGRAM)
    changed = blob[:at] + noise + blob[at + removed :]
    publisher = judged(with_signature(PROGRAM, changed))
    assert publisher.verdict is not SignatureStanding.TRUSTED or publisher.name == "Ardvane Instruments"
    assert publisher.verdict is not SignatureStanding.UNSIGNED


def expired() -> dict[str, Any]:
    return {"begins": NOW - YEARS, "ends": NOW - timedelta(days=30)}


LAST_YEAR = NOW - timedelta(days=90)
FOR_AGREEMENT = x509.KeyUsage(
    digital_signature=False,
    content_commitment=False,
    key_encipherment=False,
    data_encipherment=False,
    key_agreement=True,
    key_cert_sign=False,
    crl_sign=False,
    encipher_only=False,
    decipher_only=False,
)
STRANGER = AnIssuer.root("Somebody Else")


@pytest.mark.parametrize(
    ("signer", "facts", "verdict", "reason"),
    [
        (expired(), {}, SignatureStanding.UNTRUSTED, "it expired on 2026-05-02"),
        (expired(), {"stamped_at": LAST_YEAR}, SignatureStanding.TRUSTED, ""),
        (expired(), {"countersigned_at": LAST_YEAR}, SignatureStanding.TRUSTED, ""),
        (expired(), {"stamped_at": NOW}, SignatureStanding.UNTRUSTED, "expired"),
        (
            expired(),
            {"stamped_at": LAST_YEAR, "stamped_bytes": b"x"},
            SignatureStanding.UNTRUSTED,
            "for another signature",
        ),
        (
            {**expired(), "purposes": [CODE, "1.3.6.1.4.1.311.10.3.13"]},
            {"stamped_at": LAST_YEAR},
            SignatureStanding.UNTRUSTED,
            "expired",
        ),
        ({"purposes": [STAMPS]}, {}, SignatureStanding.UNTRUSTED, "may not be used for signing programs"),
        ({"extensions": [(FOR_AGREEMENT, True)]}, {}, SignatureStanding.UNTRUSTED, "does not let it sign anything"),
        ({"begins": NOW + AN_HOUR}, {}, SignatureStanding.UNTRUSTED, "valid only from"),
        ({}, {"algorithm": "md5"}, SignatureStanding.UNTRUSTED, "MD5, which can be forged"),
        ({}, {"chain": ()}, SignatureStanding.UNTRUSTED, "is not in the signature"),
        ({}, {"stated_type": "1.2.3"}, SignatureStanding.TAMPERED, "content of another kind"),
    ],
)
def test_a_signature_is_judged(
    signer: dict[str, Any], facts: dict[str, Any], verdict: SignatureStanding, reason: str
) -> None:
    publisher = APublisher(**signer)
    found = judged(publisher.sign(PROGRAM, **facts), publisher.machine_trusts())
    assert found.verdict is verdict
    assert reason in found.reason


def test_a_timestamp_of_a_service_that_is_not_trusted_does_not_count() -> None:
    publisher = APublisher(**expired())
    found = judged(publisher.sign(PROGRAM, stamped_at=LAST_YEAR), publisher.machine_trusts(publisher.root))
    assert (
        says(found.reason, "trust.the-root", shown="Marram Time Root") or "Marram Time Root is missing" in found.reason
    )


def test_the_key_of_another_certificate_makes_no_signature() -> None:
    other = AnIssuer(STRANGER.name, PUBLISHER.signer.x509, STRANGER.key)
    found = judged(PUBLISHER.sign(PROGRAM, signer=other))
    assert (found.verdict, found.reason) == (
        SignatureStanding.TAMPERED,
        say("trust.it-was-not-made-with-the", shown="Ardvane Instruments"),
    )


def test_of_several_signatures_one_that_is_trusted_suffices_and_one_that_does_not_fit_condemns() -> None:
    stranger = APublisher()
    nested = PUBLISHER.signature_of(PROGRAM)
    assert judged(stranger.sign(PROGRAM, nested=[nested])).verdict is SignatureStanding.TRUSTED
    both = with_signature(PROGRAM, stranger.signature_of(PROGRAM), PUBLISHER.signature_of(PROGRAM))
    assert judged(both).verdict is SignatureStanding.TRUSTED
    of_another = PUBLISHER.signature_of(a_pe(needs=["OTHER.dll"]))
    assert judged(PUBLISHER.sign(PROGRAM, nested=[of_another])).verdict is SignatureStanding.TAMPERED


def test_a_clock_that_runs_behind_a_timestamp_is_noticed() -> None:
    [remark] = judged(PUBLISHER.sign(PROGRAM, stamped_at=NOW), now=NOW - timedelta(days=200)).remarks
    assert "clock is wrong: it says 2025-11-13" in remark


def test_a_revoked_signer_is_not_trusted_but_what_it_signed_before_is() -> None:
    since = NOW - timedelta(days=60)
    publisher = APublisher()
    lists = (publisher.authority.revocations((publisher.signer, since)),)
    issuers = publisher.machine_trusts(revocation_lists=lists)
    assert "revoked it on 2026-04-02" in judged(publisher.sign(PROGRAM), issuers).reason
    early = publisher.sign(PROGRAM, stamped_at=since - AN_HOUR)
    assert judged(early, issuers).verdict is SignatureStanding.TRUSTED


def test_a_list_of_someone_else_revokes_nothing() -> None:
    forged = STRANGER.revocations((PUBLISHER.signer, LAST_YEAR), issuer=PUBLISHER.authority.x509.subject)
    assert judged(PUBLISHER.sign(PROGRAM), PUBLISHER.machine_trusts(revocation_lists=(forged,))).verdict == "trusted"


def test_a_catalogue_speaks_for_the_files_that_it_lists_and_no_other() -> None:
    source = MemoryBytes(PROGRAM)
    digest = image_digest(source, read_pe(source), "sha1")
    catalogue = a_catalogue(PUBLISHER, ("sha1", digest), ("sha256", bytes(32)))
    issuers = PUBLISHER.machine_trusts()
    listed = judge_listed(catalogue, "sha1", digest, issuers, NOW)
    assert listed is not None
    assert (listed.verdict, listed.name) == (SignatureStanding.TRUSTED, "Ardvane Instruments")
    assert judge_listed(catalogue, "sha1", bytes(20), issuers, NOW) is None
    assert judge_listed(catalogue.replace(digest, bytes(20)), "sha1", bytes(20), issuers, NOW) is None


def test_what_the_machine_distrusts_is_never_trusted() -> None:
    stranger = APublisher()
    for distrusted in (stranger.root, stranger.authority, stranger.signer):
        issuers = stranger.machine_trusts()
        issuers = Issuers(_stores(stranger, distrusted))
        assert says(judged(stranger.sign(PROGRAM), issuers).reason, "trust.says-that-nothing-with-this-certificate")


def _stores(publisher: APublisher, distrusted: AnIssuer) -> Any:
    from fundamen.model.trust_store import StoredCertificate, TrustStores  # noqa: PLC0415

    held = [(publisher.root, StoreRole.ROOT), (distrusted, StoreRole.DISTRUSTED)]
    return TrustStores(tuple(StoredCertificate(each.der, role, "the machine's store") for each, role in held))
