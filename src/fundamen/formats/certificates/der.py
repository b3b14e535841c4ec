"""The one door to ASN.1: hostile bytes become values, or one clear error.

Source of the encoding: ITU-T X.690. The library behind it reads lazily, so that a fault in the bytes may show at any
access; such a value is taken apart inside ``reading``.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

from asn1crypto import core, parser

from fundamen.formats.cursor import damage_error
from fundamen.messages import say

_Value = TypeVar("_Value")
_OCTET_STRING = 4


class Attribute(core.Sequence):
    """A type and its values, whatever those are. Source: RFC 5652, section 5.3, Attribute."""

    _fields = [("type", core.ObjectIdentifier), ("values", core.SetOf, {"spec": core.Any})]


class Attributes(core.SetOf):
    """A set of attributes."""

    _child_spec = Attribute


@contextmanager
def translate_asn1_errors(what: str) -> Iterator[None]:
    """Turn whatever a hostile value makes the library raise into one error.

    Args:
        what: which part of which file, as "The signature of libtide.dll".

    Raises:
        DamagedFileError: the bytes are not what they claim to be.
    """
    try:
        yield
    except (ValueError, TypeError, KeyError, IndexError, OverflowError, AttributeError, RecursionError) as error:
        reason = " ".join(str(error).split()) or type(error).__name__
        raise damage_error(what, say("formats.it-is-not-well-formed-asn", reason=reason[:160])) from error


def decode_at(kind: type[_Value], data: bytes) -> _Value:
    """The value of a type that stands at the start of some bytes; used inside ``reading``."""
    value: _Value = kind.load(data)  # type: ignore[attr-defined]
    return value


def contents_of(data: bytes) -> bytes:
    """The contents octets of the value that stands at the start: without its identifier and length.

    An octet string that was cut into pieces is put together. Used inside ``reading``.
    """
    _, method, tag, _, contents, _ = parser.parse(data)
    if tag == _OCTET_STRING and method:
        return bytes(core.OctetString.load(data).native)
    return bytes(contents)


def as_sequence(contents: bytes) -> bytes:
    """Contents octets with the identifier and length of a sequence before them."""
    return bytes(core.Sequence(contents=contents).dump())


def whole_of(data: bytes) -> bytes:
    """The value that stands at the start of some bytes, as it is encoded there; used inside ``reading``."""
    _, _, _, header, contents, trailer = parser.parse(data)
    return bytes(header) + bytes(contents) + bytes(trailer)


def values_of(attributes: Any) -> dict[str, list[bytes]]:  # noqa: ANN401 - asn1crypto comes without types
    """All values of a set of attributes by the dotted form of their type, each as it is encoded."""
    found: dict[str, list[bytes]] = {}
    for attribute in attributes:
        found.setdefault(attribute["type"].dotted, []).extend(value.dump() for value in attribute["values"])
    return found
