"""Read Debian packages: their control fields, and one by one the files, links and folders that they bring.

Sources: deb(5) for the archive, deb-control(5) for the fields, deb-conffiles(5); tar(5) for what is inside.
"""

import gzip
import io
import lzma
from typing import IO, cast

import msgspec

from fundamen.formats.archives.packed import MOST_UNPACKED, Bounds, Unpacked
from fundamen.formats.archives.tar_archive import walk_unix_tar
from fundamen.formats.archives.zstd_frames import ZstdStream
from fundamen.formats.byte_source import ByteSource, PartOf, SourceStream
from fundamen.formats.cursor import damage_error
from fundamen.formats.unix.ar_archive import Member, read_archive
from fundamen.messages import say
from fundamen.model.display import printable

_MOST_CONTROL = 16 << 20  # bytes, unpacked
_MOST_FIELD = 1 << 16
_XZ_END = b"YZ"  # the last bytes of a stream (The .xz File Format, 2.1.2.4)


class DebianPackage(msgspec.Struct, frozen=True):
    """The control data of a Debian package."""

    name: str
    version: str
    architecture: str  # as Debian calls it
    fields: dict[str, str]  # of its control file; the first line of each
    settings: frozenset[str]  # paths of its configuration files, which belong to the administrator


def read_debian_package(source: ByteSource) -> DebianPackage:
    """Read a package's control fields.

    Raises:
        DamagedFileError: it is no Debian package, or a damaged one.
    """
    members = _members(source)
    texts: dict[str, str] = {}
    with _open_member(source, _find(source, members, "control.tar")) as stream:
        for packed, data in _walk(source, stream, _MOST_CONTROL):
            if packed.path in {"control", "conffiles"}:
                texts[packed.path] = data.read(_MOST_CONTROL).decode("utf-8", "replace")
    fields = _fields(texts.get("control", ""))
    if not {"Package", "Version", "Architecture"} <= fields.keys():
        raise damage_error(
            say("formats.the-package", name=printable(source.name)), say("formats.its-control-file-names-no-package")
        )
    settings = frozenset(line.split(" ")[-1].lstrip("/") for line in texts.get("conffiles", "").splitlines() if line)
    return DebianPackage(fields["Package"], fields["Version"], fields["Architecture"], fields, settings)


def require_whole(source: ByteSource) -> None:
    """Make sure that all of a package's bytes are there, as far as its form tells; nothing is unpacked.

    Raises:
        DamagedFileError: it is none, it is cut, or its compressed content does not end as such content does.
    """
    members = _members(source)
    data = _find(source, members, "data.tar")
    _find(source, members, "control.tar")
    end = data.offset + data.size
    if data.name.endswith(".xz") and source.read_at(end - len(_XZ_END), len(_XZ_END)) != _XZ_END:
        raise damage_error(
            say("formats.the-package", name=printable(source.name)), say("formats.its-content-does-not-end-as")
        )
    if not end <= source.size <= end + 1:
        raise damage_error(
            say("formats.the-package", name=printable(source.name)),
            say("formats.its-members-end-at-the-file", end=end, size=source.size),
        )


def unpack_debian_package(source: ByteSource) -> Unpacked:
    """Each file, link and folder of a package with its bytes, in the package's order; they are there until the next.

    Raises:
        DamagedFileError: it is damaged, holds too much, or names a path that leads elsewhere.
    """
    with _open_member(source, _find(source, _members(source), "data.tar")) as stream:
        yield from _walk(source, stream, MOST_UNPACKED)


def _members(source: ByteSource) -> tuple[Member, ...]:
    members = read_archive(source).members
    if not members or members[0].name != "debian-binary":
        raise damage_error(
            say("formats.the-package", name=printable(source.name)), say("formats.its-first-member-is-not-debian")
        )
    if not source.read_at(members[0].offset, 2) == b"2.":
        raise damage_error(
            say("formats.the-package", name=printable(source.name)), say("formats.it-is-not-of-format-2")
        )
    return members


def _find(source: ByteSource, members: tuple[Member, ...], stem: str) -> Member:
    for member in members:
        if member.name.startswith(stem):
            return member
    raise damage_error(
        say("formats.the-package", name=printable(source.name)), say("formats.it-has-no-member", stem=stem)
    )


def _open_member(source: ByteSource, member: Member) -> IO[bytes]:
    part = PartOf(source, member.offset, member.size)
    packed = io.BufferedReader(SourceStream(part), 1 << 18)
    ending = member.name.rpartition(".")[2]
    match ending:
        case "xz":
            return cast("IO[bytes]", lzma.LZMAFile(packed))
        case "gz":
            return cast("IO[bytes]", gzip.GzipFile(fileobj=packed))
        case "tar":
            return packed
        case "zst":
            return cast("IO[bytes]", ZstdStream(part, packed))
    raise damage_error(
        say("formats.the-package", name=printable(source.name)),
        say("formats.its-member-is-packed-in-an", name=member.name),
    )


def _walk(source: ByteSource, stream: IO[bytes], most: int) -> Unpacked:
    return walk_unix_tar(
        say("formats.the-package", name=printable(source.name)),
        stream,
        Bounds("The package", source.size, most, of_unix=True),
    )


def _fields(text: str) -> dict[str, str]:
    lines = (line.partition(": ") for line in text.splitlines() if line[:1] not in {" ", "\t", "#", ""})
    return {name: value[:_MOST_FIELD] for name, separator, value in lines if separator}
