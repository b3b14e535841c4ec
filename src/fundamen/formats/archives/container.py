"""Tell what a container of files is by its bytes, and unpack it."""

from collections.abc import Callable
from enum import StrEnum

import msgspec

from fundamen.formats.archives.packed import Unpacked
from fundamen.formats.archives.tar_archive import looks_like_tar, unpack_tar
from fundamen.formats.byte_source import ByteSource, PartOf
from fundamen.model.errors import DamagedFileError

_MSI, _CABINET, _ZIP, _AR = bytes.fromhex("d0cf11e0a1b11ae1"), b"MSCF\0\0\0\0", b"PK\x03\x04", b"!<arch>\ndebian"
_PE, _SCRIPT = b"MZ", b"#!"
_MOST_STUB = 64 << 20  # bytes; the program in front of what it unpacks
_AT_ONCE = 1 << 20


class ContainerKind(StrEnum):
    """Kinds of containers."""

    DISC_IMAGE = "disc image"
    MSI = "install package"
    CABINET = "cabinet"
    ZIP = "ZIP archive"
    TAR = "tar archive"
    DEBIAN = "Debian package"
    SELF_EXTRACTING = "program that unpacks itself"
    SCRIPT = "shell script"  # that carries files behind its last line, where it has any


class Container(msgspec.Struct, frozen=True):
    """A container that was recognised."""

    kind: ContainerKind
    unpack: Callable[[], Unpacked]  # raises DamagedFileError


def find_container(source: ByteSource) -> Container | None:  # noqa: PLR0911 - one way out for each format
    """The container that a file is; None where it is none that is read here."""
    head = source.read_at(0, 14)
    if head.startswith(_MSI):
        from fundamen.formats.archives.msi_files import unpack_msi  # noqa: PLC0415 - each format only where it is met

        return Container(ContainerKind.MSI, lambda: unpack_msi(source))
    if head.startswith(_CABINET):
        from fundamen.formats.archives.cabinet_files import unpack_cabinet  # noqa: PLC0415

        return Container(ContainerKind.CABINET, lambda: unpack_cabinet(source))
    if head.startswith(_ZIP):
        from fundamen.formats.archives.zip_archive import unpack_zip  # noqa: PLC0415

        return Container(ContainerKind.ZIP, lambda: unpack_zip(source))
    if head.startswith(_AR):
        from fundamen.formats.archives.debian_package import unpack_debian_package  # noqa: PLC0415

        return Container(
            ContainerKind.DEBIAN, lambda: (each for each in unpack_debian_package(source) if not each[0].is_folder)
        )
    if head.startswith(_PE):
        return _behind_program(source)
    if head.startswith(_SCRIPT):
        return _behind_script(source)
    if source.read_at(0x8001, 5) == b"CD001":
        from fundamen.formats.archives.disc_image import unpack_disc_image  # noqa: PLC0415

        return Container(ContainerKind.DISC_IMAGE, lambda: unpack_disc_image(source))
    if looks_like_tar(source):
        return Container(ContainerKind.TAR, lambda: unpack_tar(source))
    return None


def _behind_program(source: ByteSource) -> Container | None:
    """The container inside or behind an image: a cabinet, a ZIP archive, an install package."""
    # What lies in the certificate table is covered by no signature: nothing in it is taken for the publisher's.
    end = _certificates_at(source)
    at, marks = 0, {_CABINET: ContainerKind.CABINET, _MSI: ContainerKind.MSI, _ZIP: ContainerKind.ZIP}
    while at < min(end, _MOST_STUB):
        data = source.read_at(at, _AT_ONCE + 16)
        found = [(place, mark) for mark in marks if (place := data.find(mark)) >= 0]
        for place, _ in sorted(found):
            inner = find_container(PartOf(source, at + place, end - at - place)) if at + place < end else None
            if inner is not None:
                return Container(ContainerKind.SELF_EXTRACTING, inner.unpack)
        at += _AT_ONCE
    return None


def _behind_script(source: ByteSource) -> Container | None:
    """The archive behind a shell script's last line; None where nothing is there, or nothing that is read here."""
    from fundamen.formats.unix.shell import end_of_text  # noqa: PLC0415 - only for a script

    end = end_of_text(source)
    inner = find_container(PartOf(source, end, source.size - end)) if 0 < end < source.size else None
    return Container(ContainerKind.SCRIPT, inner.unpack) if inner is not None else None


def _certificates_at(source: ByteSource) -> int:
    """Where an image's certificate table begins; its end where it has none."""
    from fundamen.formats.windows.pe import DataDirectory, read_pe  # noqa: PLC0415 - only for a program

    try:
        directories = read_pe(source).directories
    except DamagedFileError:
        return source.size
    offset, size = directories[DataDirectory.SECURITY] if len(directories) > DataDirectory.SECURITY else (0, 0)
    return min(offset, source.size) if size else source.size
