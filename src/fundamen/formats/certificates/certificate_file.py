"""Read the certificates and revocation lists out of a file of whatever form they are handed around in.

Sources: RFC 7468 (PEM), RFC 5652 (a bundle in signed data without signers), RFC 7292 (PKCS #12), and for Java's own
keystore what ``java.security.KeyStore`` of type JKS writes.
"""

import base64
import binascii
import re
from enum import StrEnum

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

_MOST_BYTES = 64 << 20
_MOST_ITEMS = 10_000
_BLOCK = re.compile(rb"-----BEGIN ([A-Z0-9 ]{1,40})-----(.*?)-----END \1-----", re.DOTALL)
_CERTIFICATE_LABELS = {b"CERTIFICATE", b"X509 CERTIFICATE", b"TRUSTED CERTIFICATE"}
_JKS_MAGIC = bytes.fromhex("feedfeed")
_SEQUENCE = 0x30
_LONG_LENGTHS = range(0x80, 0x85)  # a length of its own bytes: no certificate is shorter than that
_PROGRAMS = (b"#!", b"\x7fELF", b"MZ", b"PK")


class CertificateEncoding(StrEnum):
    """The form of a file of certificates."""

    CERTIFICATE = "certificate"
    PEM = "PEM bundle"
    SIGNED_DATA = "PKCS #7 bundle"
    REVOCATION_LIST = "revocation list"
    PKCS12 = "PKCS #12 keystore"
    JKS = "Java keystore"


class Certificates(msgspec.Struct, frozen=True):
    """The content of a file of certificates, each in DER."""

    kind: CertificateEncoding
    certificates: tuple[bytes, ...] = ()
    revocation_lists: tuple[bytes, ...] = ()
    names: tuple[str, ...] = ()  # by which a keystore knows its certificates, in their order; empty elsewhere


def looks_like_certificates(head: bytes) -> bool:
    """Whether a file that begins like this may hold certificates; a script may well have some in its text."""
    is_der = len(head) > 1 and head[0] == _SEQUENCE and head[1] in _LONG_LENGTHS
    is_pem = b"-----BEGIN " in head and not head.startswith(_PROGRAMS)
    return is_der or is_pem or head.startswith(_JKS_MAGIC)


def read_certificates(source: ByteSource, password: str = "") -> Certificates:
    """Read all certificates of a file.

    Args:
        source: the file.
        password: of a keystore.

    Raises:
        DamagedFileError: the file holds none, or is damaged.
    """
    if source.size > _MOST_BYTES:
        raise damage_error(printable(source.name), say("formats.it-has-bytes-more-than-any", size=source.size))
    data = source.read_at(0, source.size)
    if data.startswith(_JKS_MAGIC):
        from fundamen.formats.certificates.java_keystore import read_java_keystore  # noqa: PLC0415 - seldom met

        found = read_java_keystore(source, password)
        return Certificates(
            CertificateEncoding.JKS, tuple(der for _, der in found), names=tuple(name for name, _ in found)
        )
    if b"-----BEGIN " in data[: 1 << 20]:
        return _read_pem(data, source.name)
    return _read_der(data, source.name, password)


def _read_pem(data: bytes, name: str) -> Certificates:
    certificates: list[bytes] = []
    lists: list[bytes] = []
    for label, body in _BLOCK.findall(data):
        try:
            der = base64.b64decode(b"".join(body.split()), validate=True)
        except binascii.Error as error:
            raise damage_error(printable(name), say("formats.one-of-its-blocks-is-not", error=error)) from error
        if label in _CERTIFICATE_LABELS:
            certificates.append(_first_value(der) if label.startswith(b"TRUSTED") else der)
        elif label == b"X509 CRL":
            lists.append(der)
        elif label in {b"PKCS7", b"CMS"}:
            inner = _read_der(der, name, "")
            certificates += inner.certificates
            lists += inner.revocation_lists
        if len(certificates) + len(lists) > _MOST_ITEMS:
            raise damage_error(printable(name), say("formats.it-holds-more-than-certificates", most_items=_MOST_ITEMS))
    if not certificates and not lists:
        raise damage_error(printable(name), say("formats.it-holds-no-certificate-and-no"))
    kind = CertificateEncoding.PEM if len(certificates) != 1 else CertificateEncoding.CERTIFICATE
    return Certificates(
        kind if certificates else CertificateEncoding.REVOCATION_LIST, tuple(certificates), tuple(lists)
    )


def _first_value(der: bytes) -> bytes:
    """A trusted certificate has what it is trusted for behind it, which is another tool's affair."""
    from fundamen.formats.certificates.der import translate_asn1_errors, whole_of  # noqa: PLC0415 - seldom met

    with translate_asn1_errors(say("formats.a-trusted-certificate")):
        return whole_of(der)


def _read_der(data: bytes, name: str, password: str) -> Certificates:
    """Tell the forms apart by their first field, as each specification has it."""
    from fundamen.formats.certificates.der import contents_of, translate_asn1_errors, whole_of  # noqa: PLC0415 - a PEM bundle is read without it
    from fundamen.formats.certificates.signed_data import read_signed_data  # noqa: PLC0415

    with translate_asn1_errors(printable(name)):
        first = contents_of(data)
        is_signed_data = first.startswith(b"\x06")  # ContentInfo begins with an object identifier
        is_keystore = first.startswith(b"\x02\x01\x03")  # PFX with its version, 3
        inner = contents_of(first) if not is_signed_data and not is_keystore else b""
        whole = whole_of(data)
    if is_signed_data:
        bundle = read_signed_data(data, printable(name))
        return Certificates(CertificateEncoding.SIGNED_DATA, bundle.certificates, bundle.revocation_lists)
    if is_keystore:
        return _read_pkcs12(data, name, password)
    if inner and _is(whole, "load_der_x509_certificate"):
        return Certificates(CertificateEncoding.CERTIFICATE, (whole,))
    if inner and _is(whole, "load_der_x509_crl"):
        return Certificates(CertificateEncoding.REVOCATION_LIST, (), (whole,))
    raise damage_error(printable(name), say("formats.it-holds-no-certificate-and-no"))


def _is(der: bytes, loader: str) -> bool:
    """Whether the library takes some bytes for a certificate, or a revocation list."""
    import warnings  # noqa: PLC0415 - only for a single certificate

    from cryptography import x509  # noqa: PLC0415

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # old roots have serial numbers that the library calls deprecated
        try:
            getattr(x509, loader)(der)
        except (ValueError, TypeError, x509.InvalidVersion):
            return False
    return True


def _read_pkcs12(data: bytes, name: str, password: str) -> Certificates:
    from cryptography.hazmat.primitives.serialization import Encoding, pkcs12  # noqa: PLC0415 - seldom met

    for attempt in dict.fromkeys((password, "changeit", "")):  # what Java sets where no one chose another
        try:
            store = pkcs12.load_pkcs12(data, attempt.encode() or None)
        except ValueError as error:
            reason = str(error)
            continue
        held = [*([store.cert] if store.cert is not None else []), *store.additional_certs]
        return Certificates(
            CertificateEncoding.PKCS12,
            tuple(each.certificate.public_bytes(Encoding.DER) for each in held),
            names=tuple((each.friendly_name or b"").decode("utf-8", "replace") for each in held),
        )
    raise DamagedFileError(
        what=say("formats.the-keystore-cannot-be-read", name=printable(name)),
        why=say("formats.its-password-is-another-one-or", reason=reason),
        do=say("formats.give-its-password-password-file-file"),
    )
