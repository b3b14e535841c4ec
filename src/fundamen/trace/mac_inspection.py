"""Inspect a Mach-O file by itself, besides the facts that every file has."""

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.mac.macho import MachO
from fundamen.formats.mac.macho_signature import find_altered_page, read_signature
from fundamen.formats.mac.macho_slice import Slice
from fundamen.formats.mac.macho_symbols import read_exports
from fundamen.messages import say
from fundamen.model.binary import Binary
from fundamen.model.errors import DamagedFileError


def exports_of(source: ByteSource, binary: Binary) -> tuple[str, ...]:
    """The names that any slice offers, sorted.

    Raises:
        DamagedFileError: a table does not fit the file.
    """
    slices = binary.slices if isinstance(binary, MachO) else ()
    return tuple(sorted({name for part in slices for name in read_exports(source, part)}))


def signatures_of(source: ByteSource, binary: Binary) -> tuple[str, ...]:
    """Each slice's signature in words, in the order of the slices."""
    return tuple(_in_words(source, part) for part in binary.slices) if isinstance(binary, MachO) else ()


def _in_words(source: ByteSource, part: Slice) -> str:
    try:
        signature = read_signature(source, part)
        if signature is None:
            return "not signed"
        altered = find_altered_page(source, part, signature)
    except DamagedFileError as error:
        return say("trace.with-a-signature-that-cannot-be", why=error.why)
    by = (
        say("trace.without-a-certificate-ad-hoc")
        if signature.is_ad_hoc
        else say("trace.by-team", team=signature.team or "unknown")
    )
    if altered is not None:
        return say("trace.signed-but-altered-since-in-page", signer=by, altered=altered)
    return say("trace.signed-and-unaltered-since", signer=by)
