"""Whether an available revocation list says that a certificate no longer counts. Source: RFC 5280, section 6.3."""

from collections.abc import Iterable
from datetime import datetime

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed25519, rsa

from fundamen.messages import Message, say
from fundamen.trust.certificate import Certificate, RevocationList, parsed_certificate

_COMPROMISED = ("trust.its-key-was-compromised", "trust.its-issuer-was-compromised")


def find_revocation(
    certificate: Certificate, issuer: Certificate, lists: Iterable[RevocationList], at: datetime
) -> Message | None:
    """Why a certificate did not count at a moment; None where no list of its issuer says so.

    What was signed before the revocation stands, unless the key was compromised: then its misuse has no known time.
    """
    for each in lists:
        entry = each.revoked.get(certificate.serial)
        if entry is None or not issuer.may_sign_lists or not _is_signed(each, issuer):
            continue
        since, reason = entry
        if since <= at or reason in _COMPROMISED:
            return say("trust.its-issuer-revoked-it-on", since=since, more=f": {say(reason)}" if reason else "")
    return None


def _is_signed(revocations: RevocationList, issuer: Certificate) -> bool:
    try:
        key = parsed_certificate(issuer.der).public_key()
        if not isinstance(
            key, rsa.RSAPublicKey | ec.EllipticCurvePublicKey | dsa.DSAPublicKey | ed25519.Ed25519PublicKey
        ):
            return False
        return x509.load_der_x509_crl(revocations.der).is_signature_valid(key)
    except (ValueError, TypeError, InvalidSignature, UnsupportedAlgorithm):
        return False
