"""How a source lies on disk, and how what it says is checked before it is believed (docs/formats/catalogue.md)."""

import gzip
import hashlib
import os
import re
import zlib
from collections.abc import Iterable
from enum import StrEnum

import msgspec

from fundamen.model.architecture import Platform
from fundamen.model.display import printable
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
            what=f"{printable(name)} cannot be published",
            why="the name of a document has letters, digits, - _ . only, and at most 100 of them",
            do="Give the file another name.",
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
    return gzip.compress(msgspec.json.encode(tuple(packages)), 6, mtime=0)


def read_shard(data: bytes, name: str) -> tuple[Package, ...]:
    """Read a shard of the descriptions, and check every place in it.

    Raises:
        UntrustedError: it does not have the form of one, or names a place that no package may name.
    """
    try:
        packages = msgspec.json.decode(_unpack(data), type=tuple[Package, ...])
    except (msgspec.DecodeError, zlib.error, ValueError) as error:
        raise UntrustedError(
            what=f"The package descriptions {printable(name)} are refused",
            why=str(error),
            do="Tell the packager; nothing of this source is used until it is mended.",
        ) from error
    for package in packages:
        _check_places(package)
    return packages


def _unpack(data: bytes) -> bytes:
    unpacker = zlib.decompressobj(wbits=zlib.MAX_WBITS | 16)
    text = unpacker.decompress(data, MOST_SHARD)
    if unpacker.unconsumed_tail or not unpacker.eof:
        raise ValueError(f"it unpacks to more than {MOST_SHARD} bytes, or is cut")
    return text


def _check_places(package: Package) -> None:
    for entry in package.entries:
        place_parts(entry)
    for link in package.links:
        if link.target.startswith("/") or link.target.count("..") > _MOST_UPWARD or not link.target.isprintable():
            raise UntrustedError(
                what=f"The link {printable(link.place)} is refused",
                why=f"its target {printable(link.target)!r} is not a plain path beside it",
                do="Tell the packager; nothing of this source is used until it is mended.",
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
        what=f"The place of {printable(file.place)} is refused",
        why=f"{printable(file.place)!r} is not a plain path below {file.base}",
        do="Tell the packager; nothing of this source is used until it is mended.",
    )


def require_source(location: HostPath) -> None:
    """Make sure that a folder is a source.

    Raises:
        UnreadableError: it is not, or is not there.
    """
    if os.path.isdir(os.path.join(location, METADATA)):
        return
    why = "the folder has no signed metadata in it" if os.path.isdir(location) else "there is no such folder"
    raise UnreadableError(
        what=f"{printable(location)} cannot be used as a source",
        why=why,
        do="Name the folder that the packager published to, or plug in the disk that holds it.",
    )


def _is_plain(name: str, platform: Platform) -> bool:
    """Whether no system takes part of a name for anything else; Linux does so with none but NUL and the slash."""
    return "\0" not in name if platform is Platform.LINUX else name.isprintable() and not _FORBIDDEN & set(name)
