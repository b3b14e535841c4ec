"""The contracts for publishers, certificates and a machine's trusted roots."""

from typing import TYPE_CHECKING, Literal

import msgspec

from fundamen.messages import Message

if TYPE_CHECKING:
    from fundamen.trace.certificates import CertificateInspection
    from fundamen.trust.chain import Chain
    from fundamen.trust.publisher import Publisher, Signature


from collections.abc import Iterable, Sequence

from fundamen.trust.certificate import Certificate


class LinkPart(msgspec.Struct, frozen=True):
    """One certificate of a chain; times in ISO 8601, UTC."""

    subject: str
    issuer: str
    sha256: str  # its fingerprint
    not_before: str
    not_after: str
    key: str
    where: str  # where it was found
    standing: str
    reason: Message | None = None


class SignaturePart(msgspec.Struct, frozen=True):
    """One signature of a file."""

    verdict: Literal["trusted", "untrusted", "unsigned", "tampered"]
    reason: Message | None
    digest_algorithm: str
    signed_digest: str
    digest: str
    name: str | None
    program_name: str
    timestamp: str | None  # the moment that a timestamp service attests, where that counts
    timestamp_problem: Message | None
    chain: tuple[LinkPart, ...]  # the root first
    remedy: Message | None


class PublisherPart(msgspec.Struct, frozen=True):
    """Who signed a file."""

    verdict: Literal["trusted", "untrusted", "unsigned", "tampered"]
    name: str | None = None
    reason: Message | None = None
    listed_in: str | None = None  # the catalogue that was signed in the file's place
    chain: tuple[LinkPart, ...] = ()  # of the decisive signature, the root first
    signatures: tuple[SignaturePart, ...] = ()
    remarks: tuple[Message, ...] = ()


class ChainPart(msgspec.Struct, frozen=True):
    """One chain of certificates, the root first."""

    holds: bool
    chain: tuple[LinkPart, ...]
    remedy: Message | None


class CertificatesPart(msgspec.Struct, frozen=True):
    """The certificates of a file or a server."""

    kind: str
    count: int
    revocation_lists: int
    chains: tuple[ChainPart, ...]  # of those that have issued none of the others
    problems: tuple[Message, ...]


def certificates_part(inspection: "CertificateInspection") -> CertificatesPart:
    """The contract's form of some certificates."""
    problems = (*inspection.unreadable, *([inspection.wrong_name] if inspection.wrong_name else []))
    return CertificatesPart(
        kind=inspection.kind,
        count=inspection.count,
        revocation_lists=inspection.revocation_lists,
        chains=tuple(_chain(chain) for chain in inspection.chains),
        problems=problems,
    )


def publisher_part(publisher: "Publisher") -> PublisherPart:
    """The contract's form of who signed a file."""
    decisive = publisher.decisive
    return PublisherPart(
        verdict=publisher.verdict.value,
        name=publisher.name,
        reason=publisher.reason,
        listed_in=publisher.listed_in or None,
        chain=_links(decisive.chain) if decisive is not None and decisive.chain is not None else (),
        signatures=tuple(map(_signature, publisher.signatures)),
        remarks=publisher.remarks,
    )


def _signature(signature: "Signature") -> SignaturePart:
    stamp = signature.timestamp
    return SignaturePart(
        verdict=signature.verdict.value,
        reason=signature.reason,
        digest_algorithm=signature.digest_algorithm,
        signed_digest=signature.signed_digest,
        digest=signature.digest,
        name=signature.name,
        program_name=signature.program_name,
        timestamp=stamp.at.isoformat() if stamp is not None and not stamp.problem else None,
        timestamp_problem=stamp.problem if stamp is not None else None,
        chain=_links(signature.chain) if signature.chain is not None else (),
        remedy=_remedy(signature.chain) if signature.chain is not None else None,
    )


def _chain(chain: "Chain") -> ChainPart:
    return ChainPart(chain.holds, _links(chain), _remedy(chain))


def _remedy(chain: "Chain") -> Message:
    from fundamen.trust.remedy import remedy  # noqa: PLC0415 - it loads the library of cryptography

    return remedy(chain)


def _links(chain: "Chain") -> tuple[LinkPart, ...]:
    return tuple(
        LinkPart(
            subject=link.certificate.subject.whole,
            issuer=link.certificate.issuer.whole,
            sha256=link.certificate.sha256,
            not_before=link.certificate.not_before.isoformat(),
            not_after=link.certificate.not_after.isoformat(),
            key=link.certificate.key,
            where=link.where,
            standing=link.standing.value,
            reason=link.reason,
        )
        for link in reversed(chain.links)
    )


class RootPart(msgspec.Struct, frozen=True):
    """One root certificate that a machine trusts."""

    name: str
    sha256: str
    valid_from: str
    valid_until: str
    where: tuple[str, ...]  # in which of the machine's stores


class RootsRecord(msgspec.Struct, frozen=True):
    """The root certificates that a machine trusts."""

    roots: tuple[RootPart, ...]
    schema: Literal["fundamen.roots/1"] = "fundamen.roots/1"


def roots_record(roots: Iterable[tuple[Certificate, Sequence[str]]]) -> RootsRecord:
    """The contract's form of some roots."""
    return RootsRecord(
        tuple(
            RootPart(c.subject.whole, c.sha256, c.not_before.isoformat(), c.not_after.isoformat(), tuple(where))
            for c, where in roots
        )
    )
