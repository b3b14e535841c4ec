"""Read certificate trust lists: catalogues that are signed in place of files, and the system's list of roots.

Source: wincrypt.h, CTL_INFO, and the ASN.1 of the files themselves: a list of subjects, each named by a digest.
"""

from typing import Any

import msgspec
from asn1crypto import algos, cms, core

from fundamen.formats.certificates.der import (
    Attributes,
    as_sequence,
    contents_of,
    decode_at,
    translate_asn1_errors,
    values_of,
)
from fundamen.formats.certificates.signed_data import Oid, SignedData, read_indirect_data

CONTENT_TYPE = "1.3.6.1.4.1.311.10.1"  # szOID_CTL
CATALOGUE = "1.3.6.1.4.1.311.12.1.1"  # szOID_CATALOG_LIST
_MOST_MEMBERS = 1_000_000


class TrustList(msgspec.Struct, frozen=True):
    """The subjects of a trust list."""

    usages: frozenset[str]  # what it is for
    subjects: frozenset[bytes]  # the digests by which it names its members: as they are written there
    files: frozenset[tuple[str, bytes]]  # (algorithm, digest) of the files of a catalogue


class _Subject(core.Sequence):
    _fields = [("identifier", core.OctetString), ("attributes", Attributes, {"optional": True})]


class _Subjects(core.SequenceOf):
    _child_spec = _Subject


class _Usage(core.SequenceOf):
    _child_spec = core.ObjectIdentifier


class _TrustList(core.Sequence):
    _fields = [
        ("version", core.Integer, {"optional": True}),
        ("usage", _Usage),
        ("list_identifier", core.OctetString, {"optional": True}),
        ("sequence_number", core.Integer, {"optional": True}),
        ("this_update", cms.Time),
        ("next_update", cms.Time, {"optional": True}),
        ("algorithm", algos.AlgorithmIdentifier),
        ("subjects", _Subjects, {"optional": True}),
        ("extensions", core.Any, {"explicit": 0, "optional": True}),
    ]


def read_trust_list(signed: SignedData, what: str) -> TrustList:
    """Read the list that some signed data holds.

    Raises:
        DamagedFileError: it holds none, or one that is not well-formed.
    """
    with translate_asn1_errors(what):
        read = decode_at(_TrustList, as_sequence(signed.content))
        subjects: Any = read["subjects"]
        members = [] if isinstance(subjects, core.Void) else list(subjects)[:_MOST_MEMBERS]
        return TrustList(
            usages=frozenset(each.dotted for each in read["usage"]),
            subjects=frozenset(member["identifier"].native for member in members),
            files=frozenset(digest for member in members for digest in _digests(member, what)),
        )


def _digests(member: Any, what: str) -> list[tuple[str, bytes]]:  # noqa: ANN401 - asn1crypto comes without types
    attributes = member["attributes"]
    if isinstance(attributes, core.Void):
        return []
    found = []
    for value in values_of(attributes).get(Oid.INDIRECT_DATA, []):
        stated = read_indirect_data(contents_of(value), what)
        found.append((stated.digest_algorithm, stated.digest))
    return found
