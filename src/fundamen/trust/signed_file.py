"""The publisher of a file of any format that carries signatures."""

from datetime import datetime

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.windows.pe import Pe
from fundamen.messages import Message, say
from fundamen.model.binary import Binary, Format
from fundamen.model.errors import DamagedFileError
from fundamen.trust.chain import Issuers
from fundamen.trust.publisher import UNSIGNED, Digest, Publisher, Signature, SignatureStanding, judge_signatures

_MOST_FILLING = 16  # bytes


def judge_file(source: ByteSource, binary: Binary, issuers: Issuers, now: datetime) -> Publisher:
    """Say from whom a file is, by the signatures that it carries itself."""
    try:
        blobs, digest, remarks = _signatures(source, binary)
    except DamagedFileError as error:
        return Publisher(SignatureStanding.TAMPERED, (Signature(SignatureStanding.TAMPERED, error.why),))
    if not blobs:
        return UNSIGNED
    publisher = judge_signatures(blobs, _remember_digests(digest), issuers, now)
    return Publisher(publisher.verdict, publisher.signatures, remarks=(*publisher.remarks, *remarks))


def digest_of_image(source: ByteSource, binary: Binary) -> Digest:
    """The function that computes a file's digest for catalogues: over an image's covered part, otherwise all bytes."""
    from fundamen.formats.windows.pe_certificates import image_digest  # noqa: PLC0415 - only such files are listed so
    from fundamen.trust.digest import digest_bytes  # noqa: PLC0415

    if isinstance(binary, Pe):
        return lambda algorithm: image_digest(source, binary, algorithm)
    return lambda algorithm: digest_bytes(source, algorithm)


def _signatures(source: ByteSource, binary: Binary) -> tuple[tuple[bytes, ...], Digest, tuple[Message, ...]]:
    """(signatures, what gives the digest that they are over, remarks)."""
    if isinstance(binary, Pe):
        from fundamen.formats.windows.pe_certificates import image_digest, read_certificate_table  # noqa: PLC0415

        table = read_certificate_table(source, binary)
        if table is None:
            return (), lambda _: b"", ()
        hidden = sum(map(_count_hidden_bytes, table.signatures))
        remarks = (say("trust.bytes-beside-the-signature-are-covered", hidden=hidden),)
        return table.signatures, lambda algorithm: image_digest(source, binary, algorithm), remarks if hidden else ()
    if binary.format is Format.MSI:
        from fundamen.formats.archives.compound_file import CompoundFile  # noqa: PLC0415
        from fundamen.formats.archives.msi_signature import package_digest, read_signature  # noqa: PLC0415

        package = CompoundFile(source)
        signature = read_signature(package)
        return _present(signature), lambda algorithm: package_digest(package, algorithm), ()
    from fundamen.formats.archives import cabinet  # noqa: PLC0415

    header = cabinet.read_cabinet(source)
    signature = cabinet.read_signature(source, header)
    return _present(signature), lambda algorithm: cabinet.cabinet_digest(source, header, algorithm), ()


def _count_hidden_bytes(blob: bytes) -> int:
    """How many bytes behind a signature, besides a few zeros that fill it up, lie in its entry of the table."""
    from fundamen.formats.certificates.der import translate_asn1_errors, whole_of  # noqa: PLC0415 - only where a signature was read

    try:
        with translate_asn1_errors("The signature"):
            rest = blob[len(whole_of(blob)) :]
    except DamagedFileError:
        return 0
    return len(rest) if rest.strip(b"\0") or len(rest) > _MOST_FILLING else 0


def _present(signature: bytes | None) -> tuple[bytes, ...]:
    return (signature,) if signature is not None else ()


def _remember_digests(digest: Digest) -> Digest:
    """The same, taking each digest once; that of bytes which cannot be read through fits no signature."""
    known: dict[str, bytes] = {}

    def take_digest(algorithm: str) -> bytes:
        if algorithm not in known:
            try:
                known[algorithm] = digest(algorithm)
            except DamagedFileError:
                known[algorithm] = b""
        return known[algorithm]

    return take_digest
