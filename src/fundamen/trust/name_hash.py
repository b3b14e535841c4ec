"""The hash of a certificate's subject under which OpenSSL looks for it in a folder. Source: OpenSSL, X509_NAME_hash."""

import hashlib

from asn1crypto import core
from asn1crypto.x509 import Certificate

_TEXT = (
    core.UTF8String,
    core.PrintableString,
    core.TeletexString,
    core.IA5String,
    core.BMPString,
    core.UniversalString,
    core.VisibleString,
)


def name_hash(der: bytes) -> str:
    """Eight hexadecimal digits, of a certificate that was read before.

    They are the first four bytes, the last one first, of the SHA-1 of the name in a canonical form: every text as
    UTF-8, in lower case, spaces at its ends left out and others counted as one, without the header of the whole.
    """
    canonical = b"".join(_canonical_part(part) for part in Certificate.load(der).subject.chosen)
    digest = hashlib.sha1(canonical, usedforsecurity=False).digest()
    return digest[:4][::-1].hex()


def _canonical_part(part: core.SetOf) -> bytes:
    attributes = sorted(
        bytes(core.Sequence(contents=attribute["type"].dump() + _canonical_value(attribute["value"])).dump())
        for attribute in part
    )
    return bytes(core.Set(contents=b"".join(attributes)).dump())


def _canonical_value(value: core.Asn1Value) -> bytes:
    inner = value.chosen if isinstance(value, core.Choice) else value
    if not isinstance(inner, _TEXT):
        return bytes(value.dump())
    text = " ".join(str(inner.native).split(" ")).strip()
    while "  " in text:
        text = text.replace("  ", " ")
    lowered = "".join(c.lower() if c.isascii() else c for c in text)
    return bytes(core.UTF8String(lowered).dump())
