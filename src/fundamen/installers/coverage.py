"""Find what a publisher's signature covers of a package and of a changed copy: all of it, or single files.

A copy is never covered by the signature of the package that it came from. A file in it that was not changed keeps its
own signature, and its place in a signed catalogue; one that was changed has lost both.
"""

import hashlib
from collections.abc import Iterable, Mapping
from datetime import datetime

import msgspec

from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import ByteSource
from fundamen.formats.certificates.signed_data import read_signed_data
from fundamen.formats.certificates.trust_list import read_trust_list
from fundamen.messages import say
from fundamen.model.binary import Format
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.trust_store import TrustStores
from fundamen.trust.chain import Issuers
from fundamen.trust.publisher import SignatureStanding
from fundamen.trust.signed_file import judge_file

_SIGNED = {Format.PE, Format.MSI, Format.CABINET}  # formats that carry their publishers' signatures


class Cover(msgspec.Struct, frozen=True):
    """The signature over a package; whether its signer is trusted is another question."""

    is_signed: bool
    signer: str = ""  # as its certificate names it
    is_intact: bool = True  # whether the package's bytes are those that were signed


def cover_of(source: ByteSource, now: datetime) -> Cover:
    """The signature that a package carries itself; none is carried by archives, disc images and Debian packages."""
    try:
        binary = read_binary(source)
        if binary.format not in _SIGNED:
            return Cover(is_signed=False)
        publisher = judge_file(source, binary, Issuers(TrustStores()), now)
    except UnreadableError:
        return Cover(is_signed=False)
    if publisher.verdict is SignatureStanding.UNSIGNED:
        return Cover(is_signed=False)
    return Cover(
        is_signed=True,
        signer=publisher.name or say("installers.a-signer-without-a-name"),
        is_intact=publisher.verdict is not SignatureStanding.TAMPERED,
    )


def catalogues_over(originals: Mapping[str, bytes], catalogues: Iterable[tuple[str, bytes]]) -> dict[str, str]:
    """Which signed catalogue of a package listed which of its files, as they were before they were changed.

    Args:
        originals: content by path.
        catalogues: (path, content) of the files of the package that may be catalogues.
    """
    digests = {
        (algorithm, hashlib.new(algorithm, content, usedforsecurity=False).digest()): path
        for path, content in originals.items()
        for algorithm in ("sha1", "sha256")
    }
    found: dict[str, str] = {}
    for path, content in catalogues:
        try:
            listed = read_trust_list(read_signed_data(content, path), path).files
        except DamagedFileError:
            continue
        found.update({digests[each]: path for each in listed if each in digests})
    return found
