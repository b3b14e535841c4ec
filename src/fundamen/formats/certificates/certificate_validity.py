"""Read until when a certificate is valid, and nothing else of it: of hundreds, only those that end are worth more.

Sources: ITU-T X.690, section 8.1 (identifier, length, contents); RFC 5280, sections 4.1 and 4.1.2.5 (the fields before
the validity, UTCTime up to 2049 and GeneralizedTime from then on).
"""

import re
from datetime import UTC, datetime

from fundamen.formats.cursor import damage_error
from fundamen.messages import say

_SEQUENCE, _VERSION = 0x30, 0xA0
_UTC_TIME, _GENERALIZED_TIME = 0x17, 0x18
_FIELDS_BEFORE = 3  # serial number, algorithm, issuer
_LONG = 0x80  # from which on the first byte of a length tells how many follow
_MOST_LENGTH = 4  # bytes of a length
_MOMENT = re.compile(r"(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)Z", re.ASCII)
_FIRST_OF_THIS_CENTURY = 50  # of the two digits of a year, those that are below


def read_end(der: bytes) -> datetime:
    """The last moment at which a certificate is valid, UTC.

    Raises:
        DamagedFileError: it is no certificate.
    """
    try:
        at, _ = _inside(der, 0, _SEQUENCE)  # the certificate
        at, _ = _inside(der, at, _SEQUENCE)  # what is signed of it
        if der[at] == _VERSION:
            at = _behind(der, at)
        for _ in range(_FIELDS_BEFORE):
            at = _behind(der, at)
        at, _ = _inside(der, at, _SEQUENCE)  # the validity
        at = _behind(der, at)  # its beginning
        kind = der[at]
        begin, end = _inside(der, at, kind)
        return _moment(kind, der[begin:end].decode("ascii"))
    except (IndexError, ValueError) as error:
        raise damage_error("The certificate", say("formats.its-validity-is-not-where-it", error=error)) from error


def _inside(der: bytes, at: int, kind: int) -> tuple[int, int]:
    """Where the contents of a value begin and end. Raises: IndexError, ValueError."""
    if der[at] != kind:
        raise ValueError(say("formats.byte-is", at=at, der=der[at]))
    length, at = der[at + 1], at + 2
    if length >= _LONG:
        count = length - _LONG
        if not 0 < count <= _MOST_LENGTH:
            raise ValueError(say("formats.a-length-of-bytes", count=count))
        length, at = int.from_bytes(der[at : at + count], "big"), at + count
    if at + length > len(der):
        raise ValueError(say("formats.a-value-of-bytes-at", length=length, at=at))
    return at, at + length


def _behind(der: bytes, at: int) -> int:
    return _inside(der, at, der[at])[1]


def _moment(kind: int, text: str) -> datetime:
    if kind == _UTC_TIME:
        text = f"{'20' if int(text[:2]) < _FIRST_OF_THIS_CENTURY else '19'}{text}"
    elif kind != _GENERALIZED_TIME:
        raise ValueError(say("formats.a-time-of-kind", kind=kind))
    found = _MOMENT.fullmatch(text)
    if found is None:
        raise ValueError(say("formats.the-time", text=text))
    year, month, day, hour, minute, second = map(int, found.groups())
    return datetime(year, month, day, hour, minute, second, tzinfo=UTC)
