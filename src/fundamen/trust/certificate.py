"""Read X.509 certificates and revocation lists: what chains are built and judged from. Source: RFC 5280."""

import functools
import hashlib
import re
import warnings
from collections.abc import Iterable
from datetime import datetime

import msgspec
from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import dsa, ec, rsa
from cryptography.x509.oid import AuthorityInformationAccessOID as Access
from cryptography.x509.oid import ExtensionOID, NameOID

from fundamen.formats.cursor import damage_error
from fundamen.messages import say

_KNOWN_CRITICAL = {
    ExtensionOID.BASIC_CONSTRAINTS,
    ExtensionOID.KEY_USAGE,
    ExtensionOID.EXTENDED_KEY_USAGE,
    ExtensionOID.NAME_CONSTRAINTS,
    ExtensionOID.SUBJECT_ALTERNATIVE_NAME,
    ExtensionOID.CERTIFICATE_POLICIES,  # only what it asserts; it forbids nothing by itself
    ExtensionOID.CRL_DISTRIBUTION_POINTS,
    ExtensionOID.AUTHORITY_INFORMATION_ACCESS,
}
# What a technician calls a certificate by, the most telling part first.
_SHOWN = (NameOID.COMMON_NAME, NameOID.ORGANIZATION_NAME, NameOID.ORGANIZATIONAL_UNIT_NAME, NameOID.COUNTRY_NAME)
# All that the library raises over damaged bytes.
_RAISED = (
    ValueError,
    TypeError,
    KeyError,
    OverflowError,
    UnsupportedAlgorithm,
    x509.DuplicateExtension,
    x509.InvalidVersion,
    x509.UnsupportedGeneralNameType,
)


NameKey = tuple[frozenset[tuple[str, str]], ...]  # its parts in their order, each some (type, value) without order


class Name(msgspec.Struct, frozen=True):
    """The distinguished name of a subject or an issuer."""

    shown: str  # its most telling part
    whole: str  # as RFC 4514 writes it
    key: NameKey  # two names are the same exactly if this is; case and spaces do not count


class Certificate(msgspec.Struct, frozen=True, kw_only=True):
    """The fields of a certificate."""

    der: bytes
    subject: Name
    issuer: Name
    issuer_der: bytes
    serial: int
    not_before: datetime
    not_after: datetime
    sha256: str  # its fingerprint, in lower-case hexadecimal
    sha1: str
    key: str  # in words, as "RSA 4096"
    key_bits: int  # 0 where the key is of a kind of which the length tells nothing
    signature_hash: str  # as hashlib names it; empty where the scheme has its own
    key_id: bytes = b""
    authority_key_id: bytes = b""
    is_authority: bool = False
    path_length: int | None = None  # how many authorities may stand below it; None: any number
    may_sign_certificates: bool = True
    may_sign_lists: bool = True
    may_sign_data: bool = True
    purposes: frozenset[str] | None = None  # object identifiers; None: any
    names: tuple[str, ...] = ()  # DNS names and IP addresses that it is for
    not_understood: tuple[str, ...] = ()  # critical extensions
    has_constraints: bool = False  # on the names below it
    issuer_offered_at: tuple[str, ...] = ()  # where its issuer's certificate may be fetched

    @property
    def is_self_issued(self) -> bool:
        """Whether it names itself as its issuer."""
        return self.subject.key == self.issuer.key


class RevocationList(msgspec.Struct, frozen=True):
    """Which certificates an issuer no longer stands for."""

    der: bytes
    issuer: Name
    issued_at: datetime
    renewed_by: datetime | None  # when the next one is due
    revoked: dict[int, tuple[datetime, str]]  # serial number -> when, and the code of the reason; empty for none


@functools.lru_cache(maxsize=4096)
def read_certificate(der: bytes) -> Certificate:
    """Read one certificate.

    Raises:
        DamagedFileError: it is none, or breaks the rules in a way that leaves nothing to judge.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # old roots have serial numbers that the library calls deprecated
            parsed = x509.load_der_x509_certificate(der)
            return _certificate(der, parsed, {each.oid: each for each in parsed.extensions})
    except _RAISED as error:
        raise damage_error("A certificate", f"{error}" or type(error).__name__) from error


def read_revocation_list(der: bytes) -> RevocationList:
    """Read one revocation list, whatever its date.

    Raises:
        DamagedFileError: it is none.
    """
    try:
        parsed = x509.load_der_x509_crl(der)
        revoked = {each.serial_number: (each.revocation_date_utc, _reason(each)) for each in parsed}
        return RevocationList(der, _name(parsed.issuer), parsed.last_update_utc, parsed.next_update_utc, revoked)
    except _RAISED as error:
        raise damage_error(say("trust.a-revocation-list"), f"{error}" or type(error).__name__) from error


def parsed_certificate(der: bytes) -> x509.Certificate:
    """The library's own form of a certificate. Raises: ValueError."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return x509.load_der_x509_certificate(der)


def same_name(der: bytes, name: Name) -> bool:
    """Whether a name as some file encodes it is a certificate's."""
    try:
        return _key(_parts_of(der)) == name.key
    except ValueError:
        return False


def name_key(name: x509.Name) -> NameKey:
    """The key by which two names are compared."""
    return _key([(each.oid.dotted_string, _text(each.value)) for each in part] for part in name.rdns)


def _parts_of(der: bytes) -> Iterable[list[tuple[str, str]]]:
    from asn1crypto import x509 as asn1_x509  # noqa: PLC0415 - only where a signer is named by it

    for part in asn1_x509.Name.load(der).chosen:
        yield [(attribute["type"].dotted, str(attribute["value"].native)) for attribute in part]


def _certificate(
    der: bytes, parsed: x509.Certificate, extensions: "dict[x509.ObjectIdentifier, x509.Extension[x509.ExtensionType]]"
) -> Certificate:
    def value(oid: x509.ObjectIdentifier, kind: type[x509.ExtensionType]) -> x509.ExtensionType | None:
        found = extensions[oid].value if oid in extensions else None
        return found if isinstance(found, kind) else None

    constraints = value(ExtensionOID.BASIC_CONSTRAINTS, x509.BasicConstraints)
    usage = value(ExtensionOID.KEY_USAGE, x509.KeyUsage)
    purposes = value(ExtensionOID.EXTENDED_KEY_USAGE, x509.ExtendedKeyUsage)
    own_key = value(ExtensionOID.SUBJECT_KEY_IDENTIFIER, x509.SubjectKeyIdentifier)
    issuers_key = value(ExtensionOID.AUTHORITY_KEY_IDENTIFIER, x509.AuthorityKeyIdentifier)
    names = value(ExtensionOID.SUBJECT_ALTERNATIVE_NAME, x509.SubjectAlternativeName)
    access = value(ExtensionOID.AUTHORITY_INFORMATION_ACCESS, x509.AuthorityInformationAccess)
    key, bits = _key_in_words(parsed)
    return Certificate(
        der=der,
        subject=_name(parsed.subject),
        issuer=_name(parsed.issuer),
        issuer_der=parsed.issuer.public_bytes(),
        serial=parsed.serial_number,
        not_before=parsed.not_valid_before_utc,
        not_after=parsed.not_valid_after_utc,
        sha256=hashlib.sha256(der).hexdigest(),
        sha1=hashlib.sha1(der, usedforsecurity=False).hexdigest(),
        key=key,
        key_bits=bits,
        signature_hash=_signature_hash(parsed),
        key_id=own_key.digest if isinstance(own_key, x509.SubjectKeyIdentifier) else b"",
        authority_key_id=(issuers_key.key_identifier or b"")
        if isinstance(issuers_key, x509.AuthorityKeyIdentifier)
        else b"",
        is_authority=isinstance(constraints, x509.BasicConstraints) and constraints.ca,
        path_length=constraints.path_length if isinstance(constraints, x509.BasicConstraints) else None,
        may_sign_certificates=usage.key_cert_sign if isinstance(usage, x509.KeyUsage) else True,
        may_sign_data=usage.digital_signature or usage.content_commitment if isinstance(usage, x509.KeyUsage) else True,
        may_sign_lists=usage.crl_sign if isinstance(usage, x509.KeyUsage) else True,
        purposes=frozenset(each.dotted_string for each in purposes)
        if isinstance(purposes, x509.ExtendedKeyUsage)
        else None,
        names=_names(names) if isinstance(names, x509.SubjectAlternativeName) else (),
        not_understood=tuple(
            each.oid.dotted_string for each in extensions.values() if each.critical and each.oid not in _KNOWN_CRITICAL
        ),
        has_constraints=ExtensionOID.NAME_CONSTRAINTS in extensions,
        issuer_offered_at=_offered_places(access) if isinstance(access, x509.AuthorityInformationAccess) else (),
    )


def _name(name: x509.Name) -> Name:
    telling = [_text(found[0].value) for oid in _SHOWN if (found := name.get_attributes_for_oid(oid))]
    return Name(next(iter(telling), say("trust.a-nameless-certificate")), name.rfc4514_string(), name_key(name))


def _key(parts: Iterable[Iterable[tuple[str, str]]]) -> NameKey:
    """Source: RFC 5280, section 7.1: compared without case, spaces at the ends left out, others counted as one."""
    return tuple(
        frozenset((oid, re.sub(r"\s+", " ", value.strip()).casefold()) for oid, value in part) for part in parts
    )


def _text(value: str | bytes) -> str:
    return value if isinstance(value, str) else value.hex()


def _names(names: x509.SubjectAlternativeName) -> tuple[str, ...]:
    dns: list[str] = names.get_values_for_type(x509.DNSName)
    return (*dns, *map(str, names.get_values_for_type(x509.IPAddress)))


def _offered_places(access: x509.AuthorityInformationAccess) -> tuple[str, ...]:
    return tuple(
        each.access_location.value
        for each in access
        if each.access_method == Access.CA_ISSUERS and isinstance(each.access_location, x509.UniformResourceIdentifier)
    )


def _key_in_words(parsed: x509.Certificate) -> tuple[str, int]:
    key = parsed.public_key()
    if isinstance(key, rsa.RSAPublicKey):
        return f"RSA {key.key_size}", key.key_size
    if isinstance(key, dsa.DSAPublicKey):
        return f"DSA {key.key_size}", key.key_size
    if isinstance(key, ec.EllipticCurvePublicKey):
        return f"EC {key.curve.name}", 0
    return type(key).__name__.strip("_").removesuffix("PublicKey"), 0


def _signature_hash(parsed: x509.Certificate) -> str:
    try:
        algorithm = parsed.signature_hash_algorithm
    except UnsupportedAlgorithm:
        return parsed.signature_algorithm_oid.dotted_string
    return algorithm.name if algorithm is not None else ""


def _reason(entry: x509.RevokedCertificate) -> str:
    try:
        reason = entry.extensions.get_extension_for_class(x509.CRLReason).value.reason
    except (x509.ExtensionNotFound, ValueError):
        return ""
    return {
        x509.ReasonFlags.key_compromise: "trust.its-key-was-compromised",
        x509.ReasonFlags.ca_compromise: "trust.its-issuer-was-compromised",
        x509.ReasonFlags.affiliation_changed: "trust.its-owner-has-changed",
        x509.ReasonFlags.superseded: "trust.it-was-superseded",
        x509.ReasonFlags.cessation_of_operation: "trust.it-is-no-longer-in-use",
    }.get(reason, "")
