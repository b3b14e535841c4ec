"""Read XML of any origin: no declarations of entities, a bounded size, a bounded depth."""

from collections.abc import Iterator
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_MAX_BYTES = 1 << 20
_MAX_DEPTH = 64


def read_xml(data: bytes, what: str) -> Element:
    """The root element of a document.

    Args:
        data: the document, perhaps with NULs or blanks behind it, as resources have them.
        what: which document it is, for messages ("manifest").

    Raises:
        DamagedFileError: it is no XML, declares entities, or is too large or too deep.
    """
    if len(data) > _MAX_BYTES:
        raise _damaged_xml(what, say("formats.it-has-bytes", count=len(data)))
    try:
        root: Element = fromstring(data.rstrip(b"\0 \r\n"), forbid_dtd=True)
    except (ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise _damaged_xml(what, f"{type(error).__name__}: {error}") from error
    if any(depth > _MAX_DEPTH for depth, _ in _below(root, 1)):
        raise _damaged_xml(what, say("formats.it-is-nested-more-than-levels", max_depth=_MAX_DEPTH))
    return root


def elements_of(root: Element) -> Iterator[Element]:
    """All elements below one, in the order of the document."""
    return (element for _, element in _below(root, 1))


def tag_of(element: Element) -> str:
    """An element's name without its namespace, in lower case, as Windows compares them."""
    return element.tag.rpartition("}")[2].lower() if isinstance(element.tag, str) else ""


def _below(element: Element, depth: int) -> Iterator[tuple[int, Element]]:
    waiting = [(depth, child) for child in reversed(element)]
    while waiting:
        depth, found = waiting.pop()
        yield depth, found
        if depth <= _MAX_DEPTH:
            waiting.extend((depth + 1, child) for child in reversed(found))


def _damaged_xml(what: str, why: str) -> DamagedFileError:
    return damage_error(f"The {what}", why)
