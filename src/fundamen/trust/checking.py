"""Check a signature with the key of a certificate.

Sources: RFC 8017 (RSA), FIPS 186-5 (ECDSA), FIPS 186-4 (DSA), RFC 8032 (Ed25519).
"""

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed25519, padding, rsa

from fundamen.formats.certificates.signed_data import Scheme, Signer
from fundamen.trust.certificate import Certificate, parsed_certificate

_HASHES: dict[str, hashes.HashAlgorithm] = {
    "md5": hashes.MD5(),  # noqa: S303 - to be checked, and then called weak
    "sha1": hashes.SHA1(),  # noqa: S303 - likewise
    "sha224": hashes.SHA224(),
    "sha256": hashes.SHA256(),
    "sha384": hashes.SHA384(),
    "sha512": hashes.SHA512(),
}


def is_signed_by(certificate: Certificate, issuer: Certificate) -> bool:
    """Whether a certificate was signed with its issuer's key, whatever either says of itself."""
    try:
        parsed_certificate(certificate.der).verify_directly_issued_by(parsed_certificate(issuer.der))
    except InvalidSignature:
        return False
    except (ValueError, TypeError, UnsupportedAlgorithm):  # the two do not fit, or with an algorithm no one may use
        return _is_signed_under_other_spelling(certificate, issuer)
    return True


def _is_signed_under_other_spelling(certificate: Certificate, issuer: Certificate) -> bool:
    """The library compares names byte by byte; RFC 5280, section 7.1, lets their encodings differ."""
    parsed, key = parsed_certificate(certificate.der), parsed_certificate(issuer.der).public_key()
    try:
        algorithm, signature, signed = parsed.signature_hash_algorithm, parsed.signature, parsed.tbs_certificate_bytes
        if isinstance(key, rsa.RSAPublicKey) and algorithm is not None:
            scheme = parsed.signature_algorithm_parameters
            if isinstance(scheme, padding.PKCS1v15 | padding.PSS):
                key.verify(signature, signed, scheme, algorithm)
                return True
        if isinstance(key, ec.EllipticCurvePublicKey) and algorithm is not None:
            key.verify(signature, signed, ec.ECDSA(algorithm))
            return True
    except (InvalidSignature, ValueError, TypeError, UnsupportedAlgorithm):
        return False
    return False


def has_signed(certificate: Certificate, signer: Signer, signed: bytes) -> bool:
    """Whether a signer's signature over some bytes was made with the key of a certificate."""
    algorithm = _HASHES.get(signer.signature_hash)
    try:
        key = parsed_certificate(certificate.der).public_key()
        match key, signer.scheme:
            case ed25519.Ed25519PublicKey(), Scheme.ED25519:
                key.verify(signer.signature, signed)
            case rsa.RSAPublicKey(), Scheme.RSA if algorithm is not None:
                key.verify(signer.signature, signed, padding.PKCS1v15(), algorithm)
            case rsa.RSAPublicKey(), Scheme.RSA_PSS if algorithm is not None:
                pss = padding.PSS(padding.MGF1(algorithm), signer.salt_size)
                key.verify(signer.signature, signed, pss, algorithm)
            case ec.EllipticCurvePublicKey(), Scheme.ECDSA if algorithm is not None:
                key.verify(signer.signature, signed, ec.ECDSA(algorithm))
            case dsa.DSAPublicKey(), Scheme.DSA if algorithm is not None:
                key.verify(signer.signature, signed, algorithm)
            case _:
                return False
    except (InvalidSignature, ValueError, TypeError, UnsupportedAlgorithm):
        return False
    return True
