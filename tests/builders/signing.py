"""Issue certificates, sign files and timestamp signatures under made-up names; independent verifiers prove them."""

import hashlib
import struct
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any, Self

from asn1crypto import core
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.windows.pe import read_pe
from fundamen.formats.windows.pe_certificates import image_digest
from fundamen.model.trust_store import StoredCertificate, StoreRole, TrustStores
from fundamen.trust.certificate import Certificate, read_certificate
from fundamen.trust.chain import Issuers

NOW = datetime(2026, 6, 1, tzinfo=UTC)
CODE, STAMPS, SERVERS = "1.3.6.1.5.5.7.3.3", "1.3.6.1.5.5.7.3.8", "1.3.6.1.5.5.7.3.1"
_CURVE = ec.SECP256R1()


class AnIssuer:
    """Someone with a key and a certificate: a root, an authority below one, or a signer."""

    def __init__(self, name: str, certificate: x509.Certificate, key: ec.EllipticCurvePrivateKey) -> None:
        self.name = name
        self.x509 = certificate
        self.key = key
        self.der = certificate.public_bytes(Encoding.DER)
        self.pem = certificate.public_bytes(Encoding.PEM)
        self.key_pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())

    @classmethod
    def root(cls, name: str = "Ardvane Root R1", **facts: Any) -> Self:
        return cls._made(name, None, authority=True, **facts)

    def issue(self, name: str, **facts: Any) -> "AnIssuer":
        return type(self)._made(name, self, **facts)

    @property
    def certificate(self) -> Certificate:
        return read_certificate(self.der)

    def revocations(self, *revoked: tuple["AnIssuer", datetime], **facts: Any) -> bytes:
        """A revocation list of this issuer."""
        builder = x509.CertificateRevocationListBuilder().issuer_name(facts.get("issuer", self.x509.subject))
        builder = builder.last_update(NOW - timedelta(days=1)).next_update(NOW + timedelta(days=30))
        for each, since in revoked:
            entry = x509.RevokedCertificateBuilder().serial_number(each.x509.serial_number).revocation_date(since)
            if reason := facts.get("reason"):
                entry = entry.add_extension(x509.CRLReason(reason), critical=False)
            builder = builder.add_revoked_certificate(entry.build())
        return builder.sign(self.key, hashes.SHA256()).public_bytes(Encoding.DER)

    @classmethod
    def _made(
        cls,
        name: str,
        issuer: "AnIssuer | None",
        *,
        authority: bool = False,
        purposes: Iterable[str] = (),
        begins: datetime = NOW - timedelta(days=365),
        ends: datetime = NOW + timedelta(days=3650),
        path_length: int | None = None,
        dns: Sequence[str] = (),
        extensions: Sequence[tuple[x509.ExtensionType, bool]] = (),
        signed_by: ec.EllipticCurvePrivateKey | None = None,
        key: ec.EllipticCurvePrivateKey | None = None,
        subject: x509.Name | None = None,
    ) -> Self:
        key = key or ec.generate_private_key(_CURVE)
        subject = subject or x509.Name(
            [
                x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Ardvane Instruments"),
                x509.NameAttribute(NameOID.COMMON_NAME, name),
            ]
        )
        issued_by = issuer.x509.subject if issuer else subject
        issuer_key = issuer.key if issuer else key
        builder = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(issued_by)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(begins)
            .not_valid_after(ends)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
            .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(issuer_key.public_key()), critical=False)
        )
        if authority:
            builder = builder.add_extension(x509.BasicConstraints(ca=True, path_length=path_length), critical=True)
        if purposes:
            usage = x509.ExtendedKeyUsage([x509.ObjectIdentifier(each) for each in purposes])
            builder = builder.add_extension(usage, critical=STAMPS in purposes)
        if dns:
            builder = builder.add_extension(x509.SubjectAlternativeName([x509.DNSName(d) for d in dns]), critical=False)
        for extension, critical in extensions:
            builder = builder.add_extension(extension, critical=critical)
        signed = builder.sign(signed_by or issuer_key, hashes.SHA256())
        return cls(name, signed, key)


class APublisher:
    """A publisher with the whole chain behind its signatures, and a timestamp service with another."""

    def __init__(self, **signer: Any) -> None:
        self.root = AnIssuer.root()
        self.authority = self.root.issue("Ardvane Code CA", authority=True, purposes=[CODE])
        self.signer = self.authority.issue("Ardvane Instruments", **{"purposes": [CODE], **signer})
        self.clock_root = AnIssuer.root("Marram Time Root")
        self.clock = self.clock_root.issue("Marram Time Service", purposes=[STAMPS])

    def machine_trusts(self, *roots: AnIssuer, role: StoreRole = StoreRole.ROOT, **facts: Any) -> Issuers:
        """The trust of a machine in both roots, or in the given ones."""
        trusted = roots or (self.root, self.clock_root)
        stored = tuple(StoredCertificate(each.der, role, "the machine's store Root") for each in trusted)
        return Issuers(TrustStores(stored, **facts))

    def sign(self, data: bytes, **facts: Any) -> bytes:
        """A PE file with this publisher's signature."""
        return with_signature(data, self.signature_of(data, **facts))

    def signature_of(self, data: bytes, *, algorithm: str = "sha256", **facts: Any) -> bytes:
        padded = data + bytes(-len(data) % 8)
        source = MemoryBytes(padded)
        digest = image_digest(source, read_pe(source), algorithm)
        return self.signature_over(_indirect_data(algorithm, digest), INDIRECT_DATA, algorithm=algorithm, **facts)

    def signature_over(self, content: bytes, kind: str, *, algorithm: str = "sha256", **facts: Any) -> bytes:
        """A CMS ContentInfo; what the facts name is put in, or put wrong."""
        chain = facts.get("chain", (self.signer, self.authority))
        attributes = [
            (CONTENT_TYPE, _oid(facts.get("stated_type", kind))),
            (MESSAGE_DIGEST, _tlv(4, hashlib.new(algorithm, _contents(content)).digest())),
        ]
        signer = facts.get("signer", self.signer)

        def unsigned(signature: bytes) -> list[tuple[str, bytes]]:
            extra = [(NESTED, each) for each in facts.get("nested", ())]
            if at := facts.get("stamped_at"):
                extra.append((TIMESTAMP, self.timestamp(signature, at, **facts)))
            if at := facts.get("countersigned_at"):
                extra.append((COUNTERSIGNATURE, self._countersignature(signature, at)))
            return extra

        info = _signer_info(signer, attributes, algorithm, unsigned)
        certificates = [*chain, *([self.clock] if facts.get("countersigned_at") else [])]
        return _content_info(_signed_data(1, kind, content, certificates, [info], algorithm, facts.get("lists", ())))

    def timestamp(self, signature: bytes, at: datetime, **facts: Any) -> bytes:
        imprint = hashlib.sha256(facts.get("stamped_bytes", signature)).digest()
        clock = facts.get("clock", self.clock)
        info = _sequence(
            core.Integer(1).dump(),
            _oid("1.2.3.4"),
            _sequence(_algorithm("sha256"), _tlv(4, imprint)),
            core.Integer(7).dump(),
            _tlv(0x18, at.strftime("%Y%m%d%H%M%SZ").encode()),
        )
        attributes = [(CONTENT_TYPE, _oid(TST_INFO)), (MESSAGE_DIGEST, _tlv(4, hashlib.sha256(info).digest()))]
        signer = _signer_info(clock, attributes, "sha256", lambda _: [])
        return _content_info(_signed_data(3, TST_INFO, _tlv(4, info), [clock], [signer], "sha256", ()))

    def _countersignature(self, signature: bytes, at: datetime) -> bytes:
        attributes = [
            (CONTENT_TYPE, _oid("1.2.840.113549.1.7.1")),
            (SIGNING_TIME, _tlv(0x17, at.strftime("%y%m%d%H%M%SZ").encode())),
            (MESSAGE_DIGEST, _tlv(4, hashlib.sha256(signature).digest())),
        ]
        return _signer_info(self.clock, attributes, "sha256", lambda _: [])


def with_signature(data: bytes, *signatures: bytes) -> bytes:
    """A PE file with a certificate table at its end."""
    padded = bytearray(data + bytes(-len(data) % 8))
    table = b""
    for signature in signatures:
        length = 8 + len(signature)
        table += struct.pack("<IHH", length, 0x200, 2) + signature + bytes(-length % 8)
    (header_at,) = struct.unpack_from("<I", padded, 0x3C)
    (magic,) = struct.unpack_from("<H", padded, header_at + 24)
    struct.pack_into("<II", padded, header_at + 24 + (112 if magic == 0x20B else 96) + 32, len(padded), len(table))
    return bytes(padded) + table


def a_catalogue(publisher: APublisher, *digests: tuple[str, bytes]) -> bytes:
    """A catalogue that is signed in place of the files with these digests."""
    members = [
        _sequence(_tlv(4, digest), _set([_attribute(INDIRECT_DATA, _indirect_data(algorithm, digest))]))
        for algorithm, digest in digests
    ]
    content = _sequence(
        _sequence(_oid("1.3.6.1.4.1.311.12.1.1")),
        _tlv(4, bytes(16)),
        _tlv(0x17, b"260101000000Z"),
        _sequence(_oid("1.3.6.1.4.1.311.12.1.3"), _tlv(5, b"")),
        _sequence(*members),
    )
    return publisher.signature_over(content, "1.3.6.1.4.1.311.10.1")


INDIRECT_DATA = "1.3.6.1.4.1.311.2.1.4"
CONTENT_TYPE, MESSAGE_DIGEST = "1.2.840.113549.1.9.3", "1.2.840.113549.1.9.4"
SIGNING_TIME, COUNTERSIGNATURE = "1.2.840.113549.1.9.5", "1.2.840.113549.1.9.6"
TIMESTAMP, NESTED = "1.3.6.1.4.1.311.3.3.1", "1.3.6.1.4.1.311.2.4.1"
TST_INFO = "1.2.840.113549.1.9.16.1.4"
_HASHES = {"sha1": ("1.3.14.3.2.26", "1.2.840.10045.4.1"), "sha256": ("2.16.840.1.101.3.4.2.1", "1.2.840.10045.4.3.2")}
_HASHES["md5"] = ("1.2.840.113549.2.5", "1.2.840.10045.4.3.2")


def _indirect_data(algorithm: str, digest: bytes) -> bytes:
    image = _sequence(_tlv(3, b"\0"), _tlv(0xA0, _tlv(0xA2, _tlv(0x80, b""))))
    return _sequence(
        _sequence(_oid("1.3.6.1.4.1.311.2.1.15"), image), _sequence(_algorithm(algorithm), _tlv(4, digest))
    )


def _signer_info(signer: AnIssuer, attributes: list[tuple[str, bytes]], algorithm: str, unsigned: Any) -> bytes:
    encoded = _set(sorted(_attribute(kind, value) for kind, value in attributes))
    signature = signer.key.sign(encoded, ec.ECDSA(hashes.SHA256()))
    extra = [_attribute(kind, value) for kind, value in unsigned(signature)]
    return _sequence(
        core.Integer(1).dump(),
        _sequence(signer.x509.issuer.public_bytes(), core.Integer(signer.x509.serial_number).dump()),
        _algorithm(algorithm),
        b"\xa0" + encoded[1:],
        _sequence(_oid(_HASHES[algorithm][1])),
        _tlv(4, signature),
        _tlv(0xA1, *extra) if extra else b"",
    )


def _signed_data(
    version: int,
    kind: str,
    content: bytes,
    certificates: Sequence[AnIssuer],
    signers: Sequence[bytes],
    algorithm: str,
    lists: Sequence[bytes],
) -> bytes:
    return _sequence(
        core.Integer(version).dump(),
        _set([_algorithm(algorithm)]),
        _sequence(_oid(kind), _tlv(0xA0, content)),
        _tlv(0xA0, *(each.der for each in certificates)) if certificates else b"",
        _tlv(0xA1, *lists) if lists else b"",
        _set(signers),
    )


def _content_info(signed_data: bytes) -> bytes:
    return _sequence(_oid("1.2.840.113549.1.7.2"), _tlv(0xA0, signed_data))


def _algorithm(name: str) -> bytes:
    return _sequence(_oid(_HASHES[name][0]), _tlv(5, b""))


def _attribute(kind: str, value: bytes) -> bytes:
    return _sequence(_oid(kind), _set([value]))


def _oid(dotted: str) -> bytes:
    return bytes(core.ObjectIdentifier(dotted).dump())


def _sequence(*parts: bytes) -> bytes:
    return _tlv(0x30, *parts)


def _set(parts: Iterable[bytes]) -> bytes:
    return _tlv(0x31, *parts)


def _tlv(tag: int, *parts: bytes) -> bytes:
    body = b"".join(parts)
    if len(body) < 0x80:
        return bytes([tag, len(body)]) + body
    length = len(body).to_bytes((len(body).bit_length() + 7) // 8, "big")
    return bytes([tag, 0x80 | len(length)]) + length + body


def _contents(encoded: bytes) -> bytes:
    """The contents octets of one encoded value."""
    head = 2 if encoded[1] < 0x80 else 2 + (encoded[1] & 0x7F)
    return encoded[head:]
