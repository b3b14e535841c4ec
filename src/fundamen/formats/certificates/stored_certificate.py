"""Read a certificate as the registry of Windows keeps it: properties one behind the other, the certificate among them.

Source: "Certificate Store Binary Large Object format", MS-GPEF, section 2.2.1.2, and wincrypt.h, CERT_*_PROP_ID.
"""

import struct

import msgspec

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.certificates.der import decode_at, translate_asn1_errors
from fundamen.formats.cursor import Cursor
from fundamen.messages import say

_PROPERTY = struct.Struct("<III")  # its number, a reserved 1, its size
_SHA1_HASH, _ALLOWED_USES = 3, 9  # CERT_SHA1_HASH_PROP_ID, CERT_ENHKEY_USAGE_PROP_ID
_CERTIFICATE, _LIST = 32, 33  # CERT_CERT_PROP_ID, CERT_CRL_PROP_ID
_MOST_PROPERTIES = 100


class StoredBlob(msgspec.Struct, frozen=True):
    """The content of one value of a store."""

    certificate: bytes | None  # DER
    revocation_list: bytes | None  # DER
    purposes: frozenset[str] | None  # to which the store restricts it; None: to none


def read_stored_blob(data: bytes, name: str) -> StoredBlob:
    """Read one value ``Blob`` of a store.

    Raises:
        DamagedFileError: its properties do not fit it.
    """
    cursor = Cursor(MemoryBytes(data, name))
    found: dict[int, bytes] = {}
    while cursor.at < len(data) and len(found) < _MOST_PROPERTIES:
        number, _, size = cursor.unpack(_PROPERTY, "property")
        found[number] = cursor.take(size, "property")
    uses = found.get(_ALLOWED_USES)
    return StoredBlob(found.get(_CERTIFICATE), found.get(_LIST), _purposes(uses) if uses is not None else None)


def _purposes(data: bytes) -> frozenset[str]:
    from asn1crypto.x509 import ExtKeyUsageSyntax  # noqa: PLC0415 - few roots are restricted

    with translate_asn1_errors(say("formats.the-allowed-uses-of-a-stored")):
        return frozenset(each.dotted for each in decode_at(ExtKeyUsageSyntax, data))


def stored_blob(certificate: bytes, sha1: bytes) -> bytes:
    """A certificate as a value ``Blob`` of a store, with the fingerprint by which the system finds it."""
    parts = ((_SHA1_HASH, sha1), (_CERTIFICATE, certificate))
    return b"".join(_PROPERTY.pack(number, 1, len(data)) + data for number, data in parts)
