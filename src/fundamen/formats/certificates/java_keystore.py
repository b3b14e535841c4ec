"""Read a Java keystore of type JKS: the certificates that it trusts.

Source: OpenJDK, ``sun.security.provider.JavaKeyStore``, whose comments describe the layout: big-endian, strings in
modified UTF-8 with their length in two bytes, a SHA-1 over password and content at the end.
"""

import hashlib
import struct

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_HEADER = struct.Struct(">III")  # magic, version, number of entries
_U16, _U32, _U64 = struct.Struct(">H"), struct.Struct(">I"), struct.Struct(">Q")
_PRIVATE_KEY, _TRUSTED_CERTIFICATE = 1, 2
_WHITENER = b"Mighty Aphrodite"
_DIGEST_SIZE = 20  # bytes
_USUAL_PASSWORD = "changeit"  # noqa: S105 - what every Java sets, and documents
_MOST_ENTRIES = 10_000
_MOST_CHAIN = 100


def read_java_keystore(source: ByteSource, password: str = "") -> tuple[tuple[str, bytes], ...]:
    """The certificates that a keystore trusts: (alias, DER). Private keys and their chains are passed over.

    Raises:
        DamagedFileError: it is cut or altered, or its password is another one.
    """
    cursor = Cursor(source)
    _, version, count = cursor.unpack(_HEADER, "keystore header")
    if version not in {1, 2} or count > _MOST_ENTRIES:
        raise damage_error(
            say("formats.the-keystore", name=printable(source.name)),
            say("formats.it-claims-version-and-entries", version=version, count=count),
        )
    _check_digest(source, password or _USUAL_PASSWORD)
    found = []
    for _ in range(count):
        (tag,) = cursor.unpack(_U32, "entry")
        alias = _text(cursor)
        cursor.unpack(_U64, "time of the entry")
        if tag == _TRUSTED_CERTIFICATE:
            found.append((alias, _certificate(cursor, version)))
        elif tag == _PRIVATE_KEY:
            cursor.take(cursor.unpack(_U32, "private key")[0], "private key")
            (length,) = cursor.unpack(_U32, "chain")
            for _ in range(min(length, _MOST_CHAIN)):
                _certificate(cursor, version)
        else:
            raise damage_error(
                say("formats.the-keystore", name=printable(source.name)),
                say("formats.the-entry-is-of-the-unknown", alias=alias, tag=tag),
            )
    return tuple(found)


def _certificate(cursor: Cursor, version: int) -> bytes:
    if version > 1:
        _text(cursor)  # its type, always X.509
    return cursor.take(cursor.unpack(_U32, "certificate")[0], "certificate")


def _text(cursor: Cursor) -> str:
    (length,) = cursor.unpack(_U16, "name")
    return cursor.take(length, "name").decode("utf-8", "replace")


def _check_digest(source: ByteSource, password: str) -> None:
    body = Cursor(source).take(max(source.size - _DIGEST_SIZE, 0), "keystore")
    digest = hashlib.sha1(password.encode("utf-16-be") + _WHITENER + body, usedforsecurity=False).digest()
    if digest != source.read_at(source.size - _DIGEST_SIZE, _DIGEST_SIZE):
        raise damage_error(
            say("formats.the-keystore", name=printable(source.name)), say("formats.its-password-is-another-one-or-its")
        )
