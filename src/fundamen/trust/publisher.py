"""Say from whom a file is: its publishers' signatures, their timestamps, and the chains that stand behind them.

Sources: "Windows Authenticode Portable Executable Signature Format"; RFC 5652, section 5.6 (verification of signed
data); RFC 3161 (timestamps).

Guarantees: a file is called trusted only if its digest was taken over all bytes that the format lets be covered and is
the signed one, the signature over it was checked, and the chain of the signer's certificate holds for the moment of
signing. That moment counts only where a timestamp whose own chain holds attests it; otherwise now counts.
"""

import hashlib
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from enum import StrEnum

import msgspec

from fundamen.formats.certificates.signed_data import (
    Oid,
    SignedData,
    Signer,
    read_indirect_data,
    read_signed_data,
    read_timestamp_info,
)
from fundamen.formats.certificates.trust_list import CONTENT_TYPE, read_trust_list
from fundamen.messages import UNSAID, Message, say
from fundamen.model.errors import DamagedFileError
from fundamen.trust.certificate import Certificate, read_certificate, same_name
from fundamen.trust.chain import Chain, Issuers, Purpose, build_chain
from fundamen.trust.chain import ChainStanding as LinkStanding
from fundamen.trust.checking import has_signed

_STRONG = {"sha1", "sha256", "sha384", "sha512"}  # digests of files that may be compared; others can be forged
_LIFETIME = "1.3.6.1.4.1.311.10.3.13"  # a purpose: a timestamp does not let such a signature outlive its certificate
_CLOCK_ERROR = timedelta(days=1)
_MOST_SIGNATURES = 20
IN_THE_FILE = "the file's signature"


class SignatureStanding(StrEnum):
    """Results of judging a file's signatures."""

    TRUSTED = "trusted"
    UNTRUSTED = "untrusted"  # the bytes are those that were signed; the machine does not trust who signed them
    TAMPERED = "tampered"  # the bytes, or the signature, are not those that were signed
    UNSIGNED = "unsigned"


class Timestamp(msgspec.Struct, frozen=True):
    """The statement of a timestamp service on a signature."""

    at: datetime
    chain: Chain | None  # None where its certificate is not available
    problem: Message = UNSAID  # why it does not count; empty where it does


class Signature(msgspec.Struct, frozen=True):
    """One publisher's signature."""

    verdict: SignatureStanding
    reason: Message  # why it is not trusted; empty where it is
    digest_algorithm: str = ""
    signed_digest: str = ""  # hexadecimal
    digest: str = ""  # of the file as it is
    chain: Chain | None = None  # None where the signer's certificate is not available
    timestamp: Timestamp | None = None
    program_name: str = ""  # as the publisher calls it

    @property
    def name(self) -> str | None:
        """Who signed, as the certificate has it; None where it is not available."""
        return self.chain.links[0].certificate.subject.shown if self.chain is not None else None


class Publisher(msgspec.Struct, frozen=True):
    """From whom a file is."""

    verdict: SignatureStanding
    signatures: tuple[Signature, ...] = ()
    listed_in: str = ""  # the catalogue that was signed in the file's place; empty where the file itself was
    remarks: tuple[Message, ...] = ()

    @property
    def decisive(self) -> Signature | None:
        """The signature that the verdict rests on; None where there is none."""
        return next((each for each in self.signatures if each.verdict is self.verdict), None)

    @property
    def name(self) -> str | None:
        """The publisher's name, as the certificate of the decisive signature has it; None where it has none."""
        return self.decisive.name if self.decisive is not None else None

    @property
    def reason(self) -> Message:
        """Why it is not trusted; empty where it is, or no one signed it."""
        return self.decisive.reason if self.decisive is not None else UNSAID


UNSIGNED = Publisher(SignatureStanding.UNSIGNED)

Digest = Callable[[str], bytes]


def judge_signatures(blobs: Sequence[bytes], digest: Digest, issuers: Issuers, now: datetime) -> Publisher:
    """Judge all signatures of one file.

    Args:
        blobs: each a CMS ContentInfo, the first of them the file's primary signature.
        digest: gives the digest of all that is covered in the file, by the name of an algorithm.
        issuers: the available certificates; those that a signature brings are added for it.
        now: this moment.
    """
    signatures: list[Signature] = []
    waiting = list(blobs)
    while waiting and len(signatures) < _MOST_SIGNATURES:
        signature, nested = _judge_signature(waiting.pop(0), digest, issuers, now)
        signatures.append(signature)
        waiting.extend(nested)
    return Publisher(_overall(signatures), tuple(signatures), remarks=tuple(dict.fromkeys(_remarks(signatures, now))))


def judge_listed(blob: bytes, algorithm: str, digest: bytes, issuers: Issuers, now: datetime) -> Publisher | None:
    """The publisher of a file by a catalogue that lists its digest; None where the catalogue does not.

    Args:
        blob: the catalogue, a CMS ContentInfo.
        algorithm: by which the file's digest was taken.
        digest: the file's digest.
        issuers: the available certificates.
        now: this moment.
    """
    try:
        signed = read_signed_data(blob, "The catalogue")
        if signed.content_type != CONTENT_TYPE or len(signed.signers) != 1:
            return None
        if (algorithm, digest) not in read_trust_list(signed, "The catalogue").files:
            return None
    except DamagedFileError:
        return None
    signature = Signature(SignatureStanding.TAMPERED, UNSAID, algorithm, digest.hex(), digest.hex())
    at_hand = issuers.with_more(signed.certificates, "the catalogue", signed.revocation_lists)
    judged = _judge_signer(signature, signed, signed.signers[0], at_hand, now)
    if judged.verdict is SignatureStanding.TAMPERED:
        return None  # the catalogue is damaged; of the file it says nothing
    return Publisher(judged.verdict, (judged,), remarks=tuple(_remarks((judged,), now)))


def _overall(signatures: Sequence[Signature]) -> SignatureStanding:
    verdicts = {signature.verdict for signature in signatures}
    for verdict in (SignatureStanding.TAMPERED, SignatureStanding.TRUSTED, SignatureStanding.UNTRUSTED):
        if verdict in verdicts:
            return verdict
    return SignatureStanding.UNSIGNED


def _judge_signature(
    blob: bytes, digest: Digest, issuers: Issuers, now: datetime
) -> tuple[Signature, tuple[bytes, ...]]:
    """One signature, and those that are nested in it."""
    try:
        signed = read_signed_data(blob, say("trust.the-publisher-signature"))
        if signed.content_type != Oid.INDIRECT_DATA or len(signed.signers) != 1:
            reason = say(
                "trust.it-holds-signers-of-content-not", count=len(signed.signers), content_type=signed.content_type
            )
            return Signature(SignatureStanding.TAMPERED, reason), ()
        stated = read_indirect_data(signed.content, say("trust.the-signed-digest"))
    except DamagedFileError as error:
        return Signature(SignatureStanding.TAMPERED, say("trust.the-signature-cannot-be-read", why=error.why)), ()
    [signer] = signed.signers
    if stated.digest_algorithm not in _STRONG:
        reason = say("trust.the-digest-is-which-can-be", digest_algorithm=stated.digest_algorithm.upper())
        return Signature(SignatureStanding.UNTRUSTED, reason, stated.digest_algorithm), signer.nested
    signature = Signature(
        SignatureStanding.TAMPERED,
        say("trust.the-file-bytes-are-not-those"),
        stated.digest_algorithm,
        stated.digest.hex(),
        digest(stated.digest_algorithm).hex(),
    )
    at_hand = issuers.with_more(signed.certificates, IN_THE_FILE, signed.revocation_lists)
    judged = _judge_signer(signature, signed, signer, at_hand, now)
    if signature.signed_digest != signature.digest:
        judged = msgspec.structs.replace(judged, verdict=signature.verdict, reason=signature.reason)
    return judged, signer.nested


def _judge_signer(
    signature: Signature, signed: SignedData, signer: Signer, issuers: Issuers, now: datetime
) -> Signature:
    certificate = _find_certificate(signer, signed)
    if certificate is None:
        return msgspec.structs.replace(
            signature, verdict=SignatureStanding.UNTRUSTED, reason=say("trust.the-signer-certificate-is-not-in")
        )
    problem = _find_flaw(signer, certificate, signed.content_type, signed.content)
    timestamp = _best_timestamp(signer, signed, issuers)
    counts = timestamp is not None and not timestamp.problem and _LIFETIME not in (certificate.purposes or ())
    at = timestamp.at if timestamp is not None and counts else now
    chain = build_chain(certificate, issuers, Purpose.CODE_SIGNING, at, IN_THE_FILE)
    verdict, reason = SignatureStanding.TRUSTED, UNSAID
    if problem:
        verdict, reason = SignatureStanding.TAMPERED, problem
    elif chain.failing is not None:
        verdict, reason = SignatureStanding.UNTRUSTED, chain.why
        if timestamp is not None and timestamp.problem and chain.failing.standing is LinkStanding.EXPIRED:
            reason = say("trust.its-timestamp-does-not-count", reason=reason, problem=timestamp.problem)
    return msgspec.structs.replace(
        signature, verdict=verdict, reason=reason, chain=chain, timestamp=timestamp, program_name=signer.program_name
    )


def _find_certificate(signer: Signer, *pools: SignedData) -> Certificate | None:
    """The certificate that a signer names."""
    for der in (der for pool in pools for der in pool.certificates):
        try:
            certificate = read_certificate(der)
        except DamagedFileError:
            continue
        if signer.key_id and certificate.key_id == signer.key_id:
            return certificate
        if signer.issuer and certificate.serial == signer.serial and same_name(signer.issuer, certificate.issuer):
            return certificate
    return None


def _find_flaw(signer: Signer, certificate: Certificate, content_type: str, content: bytes) -> Message:
    """The flaw of a signature over some content; empty for none. Source: RFC 5652, section 5.6."""
    if signer.digest_algorithm not in hashlib.algorithms_available:
        return say("trust.its-digest-algorithm-is-not-known", digest_algorithm=signer.digest_algorithm)
    digest = hashlib.new(signer.digest_algorithm, content, usedforsecurity=False).digest()
    if signer.signed_attributes:
        if signer.content_type != content_type:
            return say("trust.the-signature-says-that-it-is")
        if signer.message_digest != digest:
            return say("trust.the-signature-was-made-over-other")
    if not has_signed(certificate, signer, signer.signed_attributes or content):
        return say("trust.it-was-not-made-with-the", shown=certificate.subject.shown)
    return UNSAID


def _best_timestamp(signer: Signer, signed: SignedData, issuers: Issuers) -> Timestamp | None:
    """The first timestamp that counts, otherwise the first at all; None where there is none."""
    found = list(_timestamps(signer, signed, issuers))
    return next((each for each in found if not each.problem), found[0] if found else None)


def _timestamps(signer: Signer, signed: SignedData, issuers: Issuers) -> Iterator[Timestamp]:
    for token in signer.timestamps:
        try:
            inner = read_signed_data(token, "The timestamp")
            info = read_timestamp_info(inner.content, "The timestamp")
        except DamagedFileError as error:
            yield Timestamp(datetime.min.replace(tzinfo=UTC), None, say("trust.it-cannot-be-read", why=error.why))
            continue
        at_hand = issuers.with_more(inner.certificates, "the timestamp", inner.revocation_lists)
        problem = UNSAID
        if inner.content_type != Oid.TIMESTAMP_INFO or len(inner.signers) != 1:
            problem = say("trust.it-is-not-signed-as-a")
        elif not _is_over(info.digest_algorithm, info.digest, signer.signature):
            problem = say("trust.it-was-made-for-another-signature")
        yield _judge_timestamp(
            info.at, inner.signers[:1], (inner, signed), inner.content_type, inner.content, at_hand, problem
        )
    for counter in signer.countersigners:
        if counter.signing_time is None:
            continue
        # A countersignature signs no content of its own, but the signature that it counters (section 11.4).
        kind = counter.content_type
        yield _judge_timestamp(counter.signing_time, (counter,), (signed,), kind, signer.signature, issuers, UNSAID)


def _judge_timestamp(
    at: datetime,
    signers: Sequence[Signer],
    pools: tuple[SignedData, ...],
    content_type: str,
    content: bytes,
    issuers: Issuers,
    problem: Message,
) -> Timestamp:
    certificate = _find_certificate(signers[0], *pools) if signers else None
    if certificate is None:
        return Timestamp(at, None, problem or say("trust.the-certificate-of-its-time-stamping"))
    chain = build_chain(certificate, issuers, Purpose.TIME_STAMPING, at, "the timestamp")
    problem = problem or _find_flaw(signers[0], certificate, content_type, content)
    if not problem and chain.failing is not None:
        problem = chain.why
    return Timestamp(at, chain, problem)


def _is_over(algorithm: str, digest: bytes, content: bytes) -> bool:
    return algorithm in _STRONG and hashlib.new(algorithm, content, usedforsecurity=False).digest() == digest


def _remarks(signatures: Sequence[Signature], now: datetime) -> Iterator[Message]:
    for signature in signatures:
        stamp = signature.timestamp
        if stamp is not None and not stamp.problem and stamp.at > now + _CLOCK_ERROR:
            yield say("trust.this-machine-clock-is-wrong-it", now=now, at=stamp.at)
