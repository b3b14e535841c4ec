"""Read CMS signed data as publishers' signatures, timestamps and certificate bundles use it.

Sources: RFC 5652 (CMS), RFC 2315 (its first version, in which the signed content need not be an octet string), RFC 3161
(timestamp tokens), "Windows Authenticode Portable Executable Signature Format" (attributes of publishers' signatures).
"""

from datetime import UTC, datetime
from enum import StrEnum
from typing import Any

import msgspec
from asn1crypto import algos, cms, core, tsp

from fundamen.formats.certificates.der import (
    Attributes,
    as_sequence,
    contents_of,
    decode_at,
    translate_asn1_errors,
    values_of,
    whole_of,
)
from fundamen.formats.cursor import damage_error
from fundamen.messages import say

_MOST_CERTIFICATES = 200
_MOST_SIGNERS = 20
_MOST_NESTED = 20
_CONTENT_TAGS = {b"\x30", b"\x04", b"\x24"}  # a sequence; an octet string, whole or in pieces
_VERSIONS = {1, 2, 3, 4, 5}  # CMSVersion


class Oid:
    """The object identifiers that are looked for; each names its source's field."""

    SIGNED_DATA = "1.2.840.113549.1.7.2"
    CONTENT_TYPE = "1.2.840.113549.1.9.3"
    MESSAGE_DIGEST = "1.2.840.113549.1.9.4"
    SIGNING_TIME = "1.2.840.113549.1.9.5"
    COUNTERSIGNATURE = "1.2.840.113549.1.9.6"
    TIMESTAMP_INFO = "1.2.840.113549.1.9.16.1.4"
    TIMESTAMP_TOKEN = "1.2.840.113549.1.9.16.2.14"  # noqa: S105 - as RFC 3161 has it; no password
    TIMESTAMP_COUNTERSIGNATURE = "1.3.6.1.4.1.311.3.3.1"  # the same, as Authenticode has it
    INDIRECT_DATA = "1.3.6.1.4.1.311.2.1.4"
    OPUS_INFO = "1.3.6.1.4.1.311.2.1.12"
    NESTED_SIGNATURE = "1.3.6.1.4.1.311.2.4.1"


class Scheme(StrEnum):
    """How a digest is signed."""

    RSA = "rsassa_pkcs1v15"
    RSA_PSS = "rsassa_pss"
    ECDSA = "ecdsa"
    DSA = "dsa"
    ED25519 = "ed25519"


class Signer(msgspec.Struct, frozen=True):
    """One signer's part. Source: RFC 5652, section 5.3, SignerInfo."""

    issuer: bytes  # of its certificate, a DER name; empty where it is named by its key
    serial: int
    key_id: bytes  # empty where it is named by issuer and serial number
    digest_algorithm: str  # as hashlib names it
    scheme: str  # often a Scheme
    signature_hash: str  # as hashlib names it; empty where the scheme has its own
    salt_size: int  # bytes, for RSA-PSS
    signature: bytes
    signed_attributes: bytes  # what was signed, as a DER set; empty where the content was signed itself
    content_type: str  # among the signed attributes; empty where it is not
    message_digest: bytes  # likewise
    signing_time: datetime | None  # what the signer claims; proven only by a timestamp service
    program_name: str
    countersigners: tuple["Signer", ...]  # over this signature's bytes, by a timestamp service of the old kind
    timestamps: tuple[bytes, ...]  # RFC 3161 tokens over this signature's bytes
    nested: tuple[bytes, ...]  # further signatures of the same file


class SignedData(msgspec.Struct, frozen=True):
    """Who signed what. Source: RFC 5652, section 5.1, SignedData."""

    content_type: str  # an object identifier
    content: bytes  # the content's contents octets, over which the message digest is taken
    certificates: tuple[bytes, ...]  # DER
    revocation_lists: tuple[bytes, ...]  # DER
    signers: tuple[Signer, ...]


class TimestampInfo(msgspec.Struct, frozen=True):
    """The statement of a timestamp service. Source: RFC 3161, section 2.4.2, TSTInfo."""

    digest_algorithm: str
    digest: bytes
    at: datetime


class IndirectData(msgspec.Struct, frozen=True):
    """The digest of what a publisher signed. Source: Authenticode, SpcIndirectDataContent."""

    kind: str  # of the file: an object identifier
    digest_algorithm: str
    digest: bytes


class _Encapsulated(core.Sequence):
    _fields = [("type", core.ObjectIdentifier), ("content", core.Any, {"explicit": 0, "optional": True})]


class _SignerInfo(core.Sequence):
    _fields = [
        ("version", core.Integer),
        ("sid", cms.SignerIdentifier),
        ("digest_algorithm", algos.DigestAlgorithm),
        ("signed", Attributes, {"implicit": 0, "optional": True}),
        ("signature_algorithm", algos.SignedDigestAlgorithm),
        ("signature", core.OctetString),
        ("unsigned", Attributes, {"implicit": 1, "optional": True}),
    ]


class _SignerInfos(core.SetOf):
    _child_spec = _SignerInfo


class _SignedData(core.Sequence):
    _fields = [
        ("version", core.Integer),
        ("digest_algorithms", cms.DigestAlgorithms),
        ("content", _Encapsulated),
        ("certificates", cms.CertificateSet, {"implicit": 0, "optional": True}),
        ("lists", cms.RevocationInfoChoices, {"implicit": 1, "optional": True}),
        ("signers", _SignerInfos),
    ]


class _ContentInfo(core.Sequence):
    _fields = [("type", core.ObjectIdentifier), ("content", core.Any, {"explicit": 0})]


class _TypeAndValue(core.Sequence):
    _fields = [("type", core.ObjectIdentifier), ("value", core.Any, {"optional": True})]


class _DigestInfo(core.Sequence):
    _fields = [("algorithm", algos.DigestAlgorithm), ("digest", core.OctetString)]


class _IndirectData(core.Sequence):
    _fields = [("data", _TypeAndValue), ("digest", _DigestInfo)]


class _ProgramName(core.Choice):
    _alternatives = [("unicode", core.BMPString, {"implicit": 0}), ("ascii", core.IA5String, {"implicit": 1})]


class _OpusInfo(core.Sequence):
    _fields = [
        ("program_name", _ProgramName, {"explicit": 0, "optional": True}),
        ("more_info", core.Any, {"explicit": 1, "optional": True}),
    ]


def read_signed_data(data: bytes, what: str) -> SignedData:
    """Read signed data that stands at the start of some bytes.

    Args:
        data: a ContentInfo; bytes behind it are not looked at.
        what: what it is, for the message, as "The signature of libtide.dll".

    Raises:
        DamagedFileError: it is not well-formed, or holds more than any real one.
    """
    with translate_asn1_errors(what):
        outer = decode_at(_ContentInfo, data)
        if outer["type"].dotted != Oid.SIGNED_DATA:
            raise damage_error(what, say("formats.its-content-is-of-type-not", dotted=outer["type"].dotted))
        inner = decode_at(_SignedData, contents_of(outer["content"].dump()))
        if len(inner["certificates"]) > _MOST_CERTIFICATES or len(inner["signers"]) > _MOST_SIGNERS:
            raise damage_error(what, say("formats.it-holds-more-certificates-or-signers"))
        signers = tuple(_read_signer(each) for each in inner["signers"])
        digests = {each["algorithm"] for each in inner["digest_algorithms"].native}
        if inner["version"].native not in _VERSIONS or not {each.digest_algorithm for each in signers} <= digests:
            raise damage_error(what, say("formats.its-version-or-the-digests-that"))
        content = inner["content"]["content"]
        return SignedData(
            content_type=inner["content"]["type"].dotted,
            content=b"" if isinstance(content, core.Void) else _content(contents_of(content.dump())),
            certificates=tuple(_encode_members(inner["certificates"], "certificate")),
            revocation_lists=tuple(_encode_members(inner["lists"], "")),
            signers=signers,
        )


def read_timestamp_info(content: bytes, what: str) -> TimestampInfo:
    """Read what a timestamp token states, from the content of its signed data.

    Raises:
        DamagedFileError: it is not well-formed.
    """
    with translate_asn1_errors(what):
        info = decode_at(tsp.TSTInfo, content)
        imprint = info["message_imprint"]
        at: datetime = info["gen_time"].native
        return TimestampInfo(imprint["hash_algorithm"]["algorithm"].native, imprint["hashed_message"].native, _utc(at))


def read_indirect_data(content: bytes, what: str) -> IndirectData:
    """Read the digest that a publisher signed, from the contents octets of signed data.

    Raises:
        DamagedFileError: it is not well-formed.
    """
    with translate_asn1_errors(what):
        read = decode_at(_IndirectData, as_sequence(content))
        return IndirectData(
            kind=read["data"]["type"].dotted,
            digest_algorithm=read["digest"]["algorithm"]["algorithm"].native,
            digest=read["digest"]["digest"].native,
        )


def _content(encoded: bytes) -> bytes:
    """The bytes under the message digest, without the identifier, which must be one that stands for content."""
    if encoded[:1] not in _CONTENT_TAGS:
        raise ValueError(say("formats.its-content-begins-with-the-identifier", encoded=encoded[:1].hex()))
    return contents_of(encoded)


def _encode_members(choices: Any, wanted: str) -> list[bytes]:  # noqa: ANN401 - asn1crypto comes without types
    """The members of a set of choices; of the certificates only those that are of X.509."""
    if isinstance(choices, core.Void):
        return []
    return [each.chosen.dump() for each in choices if not wanted or each.name == wanted]


def _read_signer(info: Any, depth: int = 0) -> Signer:  # noqa: ANN401
    if info["version"].native not in _VERSIONS:
        raise ValueError(say("formats.a-signer-is-of-version", native=info["version"].native))
    signed = info["signed"]
    signed_values = {} if isinstance(signed, core.Void) else values_of(signed)
    unsigned = {} if isinstance(info["unsigned"], core.Void) else values_of(info["unsigned"])
    sid = info["sid"]
    is_by_name = sid.name == "issuer_and_serial_number"
    scheme, hashed, salt = _signature_algorithm(info)
    tokens = unsigned.get(Oid.TIMESTAMP_COUNTERSIGNATURE, []) + unsigned.get(Oid.TIMESTAMP_TOKEN, [])
    counter = unsigned.get(Oid.COUNTERSIGNATURE, []) if depth == 0 else []
    return Signer(
        issuer=sid.chosen["issuer"].dump() if is_by_name else b"",
        serial=sid.chosen["serial_number"].native if is_by_name else 0,
        key_id=b"" if is_by_name else sid.chosen.native,
        digest_algorithm=info["digest_algorithm"]["algorithm"].native,
        scheme=scheme,
        signature_hash=hashed,
        salt_size=salt,
        signature=info["signature"].native,
        # The attributes are signed as the set that they are, not with the tag that stands in the file (section 5.4).
        signed_attributes=b"" if isinstance(signed, core.Void) else b"\x31" + signed.dump()[1:],
        content_type=_one(signed_values, Oid.CONTENT_TYPE, core.ObjectIdentifier, "dotted") or "",
        message_digest=_one(signed_values, Oid.MESSAGE_DIGEST, core.OctetString) or b"",
        signing_time=_signing_time(signed_values),
        program_name=_program_name(signed_values.get(Oid.OPUS_INFO, [])),
        countersigners=tuple(_read_signer(decode_at(_SignerInfo, each), 1) for each in counter[:_MOST_NESTED]),
        timestamps=tuple(map(whole_of, tokens[:_MOST_NESTED])),
        nested=tuple(map(whole_of, unsigned.get(Oid.NESTED_SIGNATURE, [])[:_MOST_NESTED])),
    )


def _signature_algorithm(info: Any) -> tuple[str, str, int]:  # noqa: ANN401
    """(scheme, hash, size of the salt); the first version of CMS leaves the hash to the digest algorithm."""
    algorithm = info["signature_algorithm"]
    digest: str = info["digest_algorithm"].native["algorithm"]  # all of it is read, so that damage shows
    if not isinstance(algorithm.native, dict):
        raise TypeError(say("formats.a-signature-algorithm-is-no-sequence"))
    name = algorithm["algorithm"].native
    scheme: str = algorithm.signature_algo
    if scheme == Scheme.RSA_PSS:
        parameters = algorithm["parameters"]
        return scheme, parameters["hash_algorithm"]["algorithm"].native, parameters["salt_length"].native
    has_own_hash = "_" in name and not name.startswith("rsassa") and name != "ed25519"
    return scheme, algorithm.hash_algo if has_own_hash else digest, 0


def _one(values: dict[str, list[bytes]], oid: str, kind: type[Any], attribute: str = "native") -> Any:  # noqa: ANN401
    """The one value of an attribute; None where there is none."""
    found = values.get(oid, [])
    if len(found) > 1:
        raise ValueError(say("formats.the-attribute-occurs-times", oid=oid, count=len(found)))
    return getattr(decode_at(kind, found[0]), attribute) if found else None


def _signing_time(values: dict[str, list[bytes]]) -> datetime | None:
    at: datetime | None = _one(values, Oid.SIGNING_TIME, cms.Time)
    return _utc(at) if at is not None else None


def _program_name(values: list[bytes]) -> str:
    if not values:
        return ""
    name = decode_at(_OpusInfo, values[0])["program_name"]
    return "" if isinstance(name, core.Void) else str(name.native)


def _utc(at: datetime) -> datetime:
    return at.astimezone(UTC) if at.tzinfo is not None else at.replace(tzinfo=UTC)
