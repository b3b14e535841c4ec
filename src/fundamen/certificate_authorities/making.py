"""Make an authority's certificate again for its own key and name, and issue again what it had issued.

Source: RFC 5280, section 4.1 and 4.2; serial numbers of 20 octets at random (section 4.1.2.2).
"""

from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    PublicFormat,
    load_der_private_key,
    load_pem_private_key,
)
from cryptography.x509.oid import ExtensionOID, NameOID

from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError, UntrustedError, UsageError
from fundamen.trust.certificate import Certificate, parsed_certificate
from fundamen.trust.checking import is_signed_by
from fundamen.trust.name_constraints import find_forbidden_name

Key = rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | ed25519.Ed25519PrivateKey | ed448.Ed448PrivateKey

_LEAST_RSA_BITS = 2048
_BACKDATED = timedelta(minutes=5)  # for hosts whose clocks go behind
# Extensions that are set again: they describe the issuer, not the subject.
_OF_THE_ISSUER = {ExtensionOID.AUTHORITY_KEY_IDENTIFIER}


def read_key(data: bytes, name: str, password: str) -> Key:
    """Read an authority's private key, in PEM or DER (PKCS #8, PKCS #1, SEC 1).

    Args:
        data: the file's bytes.
        name: of the file, for messages.
        password: that it is encrypted with; empty where it is not.

    Raises:
        DamagedFileError: it is none, or the password is wrong.
        UsageError: no certificates are made with a key of this kind.
    """
    load = load_pem_private_key if b"-----BEGIN " in data else load_der_private_key
    try:
        key = load(data, password.encode() or None)
    except (ValueError, TypeError) as error:
        raise DamagedFileError(
            what=say("certificate_authorities.the-key-cannot-be-used", name=printable(name)),
            why=str(error) or type(error).__name__,
            do=say("certificate_authorities.name-the-authority-private-key-and"),
        ) from error
    if not isinstance(key, Key) or (isinstance(key, rsa.RSAPrivateKey) and key.key_size < _LEAST_RSA_BITS):
        raise UsageError(
            what=say("certificate_authorities.the-key-is-not-used", name=printable(name)),
            why=say("certificate_authorities.no-certificate-that-others-accept-can"),
            do=say("certificate_authorities.an-authority-key-is-rsa-of", least_rsa_bits=_LEAST_RSA_BITS),
        )
    return key


def renew_authority(old: Certificate, key: Key, now: datetime, years: int) -> bytes:
    """A new certificate for an authority: the same name, the same key, the same extensions, a new time. In DER.

    Raises:
        UntrustedError: the key is not the authority's.
        UsageError: the authority was issued by another one, which must make it again.
    """
    before = parsed_certificate(old.der)
    _require_own_key(old, before, key)
    if not old.is_self_issued:
        raise UsageError(
            what=say("certificate_authorities.the-authority-cannot-be-renewed-with", shown=old.subject.shown),
            why=say("certificate_authorities.its-certificate-was-issued-by", whole=old.issuer.whole),
            do=say("certificate_authorities.have-that-authority-issue-it-again"),
        )
    builder = _for(before, before.subject, now, now.replace(microsecond=0) + timedelta(days=365 * years))
    for extension in before.extensions:
        if extension.oid not in {*_OF_THE_ISSUER, ExtensionOID.BASIC_CONSTRAINTS, ExtensionOID.KEY_USAGE}:
            builder = builder.add_extension(extension.value, extension.critical)
    constraints = x509.BasicConstraints(ca=True, path_length=old.path_length)
    builder = builder.add_extension(constraints, critical=True).add_extension(_signing_only(), critical=True)
    return _sign(builder, key)


def new_authority(name: str, key: Key, now: datetime, years: int) -> bytes:
    """The certificate of an authority that has none any more, for its name and key. In DER.

    Raises:
        UsageError: the name is none.
    """
    try:
        subject = x509.Name.from_rfc4514_string(name, {"O": NameOID.ORGANIZATION_NAME, "CN": NameOID.COMMON_NAME})
    except ValueError as error:
        raise UsageError(
            what=say("certificate_authorities.the-authority-cannot-be-made", name=printable(name)),
            why=say("certificate_authorities.that-is-no-distinguished-name", error=error),
            do=say("certificate_authorities.write-it-as-for-example-cn"),
        ) from error
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - _BACKDATED)
        .not_valid_after(now.replace(microsecond=0) + timedelta(days=365 * years))
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .add_extension(_signing_only(), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
    )
    return _sign(builder, key)


def reissue(issued: Certificate, authority: Certificate, key: Key, now: datetime, days: int) -> bytes:
    """Issue a certificate again: the same subject, key, names and purposes, a new time. In DER.

    Raises:
        UntrustedError: the key is not the authority's, the certificate was not signed with it, or it has a right that
            the authority may not give.
        UsageError: the authority's own time ends before.
    """
    _require_own_key(authority, parsed_certificate(authority.der), key)
    if issued.issuer.key != authority.subject.key:
        raise UntrustedError(
            what=say("certificate_authorities.the-certificate-of-is-not-issued", shown=issued.subject.shown),
            why=say(
                "certificate_authorities.it-was-issued-by-not-by",
                whole=issued.issuer.whole,
                other_whole=authority.subject.whole,
            ),
            do=say("certificate_authorities.ask-the-authority-that-has-issued"),
        )
    if why := _why_not_its_own(issued, authority):
        raise UntrustedError(
            what=say("certificate_authorities.the-certificate-of-is-not-issued", shown=issued.subject.shown),
            why=why,
            do=say("certificate_authorities.do-not-use-it-find-out"),
        )
    ends = min(now.replace(microsecond=0) + timedelta(days=days), authority.not_after)
    if ends <= now:
        raise UsageError(
            what=say("certificate_authorities.the-certificate-of-is-not-issued", shown=issued.subject.shown),
            why=say("certificate_authorities.the-authority-own-certificate-has-ended"),
            do=say("certificate_authorities.renew-that-certificate-first-fundamen-authority"),
        )
    before, issuer = parsed_certificate(issued.der), parsed_certificate(authority.der)
    builder = _for(before, issuer.subject, now, ends)
    for extension in before.extensions:
        if extension.oid not in _OF_THE_ISSUER:
            builder = builder.add_extension(extension.value, extension.critical)
    identifier = x509.AuthorityKeyIdentifier.from_issuer_public_key(key.public_key())
    return _sign(builder.add_extension(identifier, critical=False), key)


def _why_not_its_own(issued: Certificate, authority: Certificate) -> Message:
    """Why an authority may not stand for a certificate that bears its name; empty where it may."""
    if not is_signed_by(issued, authority):
        return say("certificate_authorities.it-was-not-signed-with-the")
    if issued.signature_hash in {"md2", "md4", "md5"}:
        return say("certificate_authorities.it-is-signed-with-so-it", signature_hash=issued.signature_hash.upper())
    longest = authority.path_length
    if issued.is_authority and longest is not None and (issued.path_length is None or issued.path_length >= longest):
        return say("certificate_authorities.it-is-one-of-an-authority")
    if authority.has_constraints and (name := find_forbidden_name(authority, issued)) is not None:
        return say("certificate_authorities.its-issuer-may-not-speak-for", name=name)
    return UNSAID


def in_pem(der: bytes) -> bytes:
    """A certificate in PEM."""
    return parsed_certificate(der).public_bytes(Encoding.PEM)


def _for(before: x509.Certificate, issuer: x509.Name, now: datetime, ends: datetime) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder()
        .subject_name(before.subject)
        .issuer_name(issuer)
        .public_key(before.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - _BACKDATED)
        .not_valid_after(ends)
    )


def _sign(builder: x509.CertificateBuilder, key: Key) -> bytes:
    has_own_hash = isinstance(key, ed25519.Ed25519PrivateKey | ed448.Ed448PrivateKey)
    return builder.sign(key, None if has_own_hash else hashes.SHA256()).public_bytes(Encoding.DER)


def _signing_only() -> x509.KeyUsage:
    """The key usage of an authority: certificates and revocation lists."""
    return x509.KeyUsage(
        digital_signature=False,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=True,
        crl_sign=True,
        encipher_only=False,
        decipher_only=False,
    )


def _require_own_key(authority: Certificate, parsed: x509.Certificate, key: Key) -> None:
    form = (Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    if parsed.public_key().public_bytes(*form) != key.public_key().public_bytes(*form):
        raise UntrustedError(
            what=say("certificate_authorities.the-authority-is-not-renewed", shown=authority.subject.shown),
            why=say("certificate_authorities.the-key-is-not-its-own"),
            do=say("certificate_authorities.name-the-key-that-its-certificate"),
        )
