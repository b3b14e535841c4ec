"""How a source lies on disk, and how what it says is checked before it is believed (docs/formats/catalogue.md)."""

import gzip
import hashlib
import os
import re
import zlib
from collections.abc import Iterable
from enum import StrEnum

import msgspec

from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json
from fundamen.model.errors import UnreadableError, UntrustedError, UsageError
from fundamen.model.package import Base, Package, PackageEntry
from fundamen.model.paths import HostPath
from fundamen.placing.file_state import digest_of_file
from fundamen.placing.own_files import write_whole

METADATA = "metadata"  # the update framework's signed statements
PACKAGES = "packages"  # the descriptions of all packages in shards; the targets of those statements
CONTENT = "content"  # the packages' files, by SHA-256

MOST_SHARD = 256 << 20  # bytes, unpacked
MOST_DOCUMENT = 256 << 20  # bytes
_SHARD = "shard-"
_MOST_UPWARD = 4  # how far a place may climb from the program's folder
_FORBIDDEN = set('\\:*?"<>|\0')  # in no name that has to work on every platform


class DocumentKind(StrEnum):
    """Kinds of documents in a source beside packages; each is a target of its own."""

    SHEET = "sheet"  # a requirement sheet
    TOOLCHAIN = "toolchain"  # a toolchain's catalogue


_DOCUMENT = re.compile(rf"({'|'.join(DocumentKind)})\.([A-Za-z0-9][A-Za-z0-9._-]{{0,99}})")


def document_path(kind: DocumentKind, name: str) -> str:
    """The target that a document is. Raises: UsageError: the name is none that works everywhere."""
    path = f"{kind}.{name}"
    if not _DOCUMENT.fullmatch(path):
        raise UsageError(
            what=say("sources.cannot-be-published", name=printable(name)),
            why=say("sources.the-name-of-a-document-has"),
            do=say("sources.give-the-file-another-name"),
        )
    return path


def read_document_path(path: str) -> tuple[DocumentKind, str] | None:
    """Which document a target is; None where it is none."""
    found = _DOCUMENT.fullmatch(path)
    return (DocumentKind(found[1]), found[2]) if found else None


def is_shard(path: str) -> bool:
    """Whether a target is a shard of the descriptions."""
    return path.startswith(_SHARD)


def content_place(sha256: str) -> str:
    """Where the bytes with a digest lie below a source."""
    return f"{CONTENT}/{sha256[:2]}/{sha256}"


def keep_content(folder: str, sha256: str, data: bytes) -> HostPath:
    """Keep bytes of that digest in a folder of our own copies, and give their path. Raises: OSError."""
    path = HostPath(os.path.join(folder, sha256))
    if not os.path.exists(path) or digest_of_file(path) != sha256:
        write_whole(path, data)
    return path


def content_path(location: HostPath, sha256: str) -> HostPath:
    """The same in a source that is a folder of this host."""
    return HostPath(os.path.join(location, *content_place(sha256).split("/")))


def root_fingerprint(root: bytes) -> str:
    """The fingerprint by which a source is trusted: the SHA-256 of its signed root statement."""
    return hashlib.sha256(root).hexdigest()


def shard_path(identity: str) -> str:
    """In which shard of the descriptions a package lies, by what makes it that package."""
    return f"{_SHARD}{hashlib.sha256(identity.encode()).hexdigest()[:2]}.json.gz"


def packed_shard(packages: Iterable[Package]) -> bytes:
    """A shard's bytes; the same packages always give the same."""
    return gzip.compress(encode_json(tuple(packages)), 6, mtime=0)


def read_shard(data: bytes, name: str) -> tuple[Package, ...]:
    """Read a shard of the descriptions, and check every place in it.

    Raises:
        UntrustedError: it does not have the form of one, or names a place that no package may name.
    """
    try:
        packages = msgspec.json.decode(_unpack(data), type=tuple[Package, ...])
    except (msgspec.DecodeError, zlib.error, ValueError) as error:
        raise UntrustedError(
            what=say("sources.the-package-descriptions-are-refused", name=printable(name)),
            why=str(error),
            do=say("sources.tell-the-packager-nothing-of-this"),
        ) from error
    for package in packages:
        _check_places(package)
    return packages


def _unpack(data: bytes) -> bytes:
    unpacker = zlib.decompressobj(wbits=zlib.MAX_WBITS | 16)
    text = unpacker.decompress(data, MOST_SHARD)
    if unpacker.unconsumed_tail or not unpacker.eof:
        raise ValueError(say("sources.it-unpacks-to-more-than-bytes", most_shard=MOST_SHARD))
    return text


def _check_places(package: Package) -> None:
    for entry in package.entries:
        place_parts(entry)
    for link in package.links:
        if link.target.startswith("/") or link.target.count("..") > _MOST_UPWARD or not link.target.isprintable():
            raise UntrustedError(
                what=say("sources.the-link-is-refused", place=printable(link.place)),
                why=say("sources.its-target-is-not-a-plain", target=printable(link.target)),
                do=say("sources.tell-the-packager-nothing-of-this"),
            )


def place_parts(file: PackageEntry, platform: Platform = Platform.ANY) -> tuple[str, ...]:
    """The parts of a file's place, each a plain name; ``..`` only in front, and only from the program's folder.

    Args:
        file: or link, or folder.
        platform: on which it is to be placed; a catalogue's names must be plain on all.

    Raises:
        UntrustedError: the place could lead anywhere else.
    """
    parts = tuple(file.place.split("/"))
    names = tuple(part for part in parts if part != "..")
    climbed = len(parts) - len(names)
    is_plain = all(name not in {"", "."} and _is_plain(name, platform) for name in names)
    climbs_in_front = parts[:climbed] == ("..",) * climbed
    may_climb = _MOST_UPWARD if file.base is Base.PROGRAM else 0
    if names and is_plain and climbs_in_front and climbed <= may_climb:
        return parts
    raise UntrustedError(
        what=say("sources.the-place-of-is-refused", place=printable(file.place)),
        why=say("sources.is-not-a-plain-path-below", place=printable(file.place), base=file.base),
        do=say("sources.tell-the-packager-nothing-of-this"),
    )


def require_source(location: HostPath) -> None:
    """Make sure that a folder is a source.

    Raises:
        UnreadableError: it is not, or is not there.
    """
    if os.path.isdir(os.path.join(location, METADATA)):
        return
    why = (
        say("sources.the-folder-has-no-signed-metadata")
        if os.path.isdir(location)
        else say("sources.there-is-no-such-folder")
    )
    raise UnreadableError(
        what=say("sources.cannot-be-used-as-a-source", location=printable(location)),
        why=why,
        do=say("sources.name-the-folder-that-the-packager"),
    )


def _is_plain(name: str, platform: Platform) -> bool:
    """Whether no system takes part of a name for anything else; Linux does so with none but NUL and the slash."""
    return "\0" not in name if platform is Platform.LINUX else name.isprintable() and not _FORBIDDEN & set(name)
