"""Inspect one file by itself."""

import contextlib
from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from fundamen.evidence.authority import Authority, Subject, Testimony, weigh
from fundamen.formats.byte_source import ByteSource
from fundamen.formats.certificates.certificate_file import looks_like_certificates
from fundamen.formats.managed.cli_header import Managed, read_managed
from fundamen.formats.unix.elf import Elf
from fundamen.formats.windows.pe import Pe
from fundamen.machine.machine import Machine
from fundamen.machine.stated_version import version_of
from fundamen.model.architecture import Platform
from fundamen.model.binary import Binary, Format
from fundamen.model.errors import DamagedFileError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Evidence

if TYPE_CHECKING:  # they load the library of cryptography, which a file that carries no signature does not need
    from fundamen.evidence.publisher import PublisherAuthority
    from fundamen.trust.publisher import Publisher


class Inspection(msgspec.Struct, frozen=True):
    """The facts about one file."""

    path: MachinePath
    binary: Binary
    sha256: str
    version: str | None
    exports: tuple[str, ...] | None  # None where they were not asked for
    managed: Managed | None  # None where the file is not managed, or its metadata is damaged
    evidence: tuple[Evidence, ...] = ()  # what those who can know say of its bytes
    is_altered: bool = False  # whether one of them, or its own signature, says that they are not what they should be
    is_untrusted: bool = False  # whether a machine of its platform does not trust its signer
    publisher: "Publisher | None" = None  # None where files of this format carry no publisher's signature
    signed: tuple[str, ...] = ()  # of a Mach-O file: each slice's signature in words, in the order of the slices

    @property
    def is_at_fault(self) -> bool:
        """Whether its structure is damaged, its bytes are not what they should be, or its publisher is not trusted."""
        return self.is_altered or self.is_untrusted or not self.binary.is_intact


def inspect_file(
    machine: Machine,
    path: MachinePath,
    authorities: Sequence[Authority] = (),
    publishers: "PublisherAuthority | None" = None,
    *,
    exports: bool = False,
) -> Inspection:
    """Read one file of a machine, and ask who can vouch for it, and from whom it is.

    Raises:
        UnreadableError: it cannot be read, or is neither program nor library.
    """
    binary = machine.binary(path)
    with machine.open(path) as source:
        names: tuple[str, ...] | None = None
        if exports and isinstance(binary, Elf):
            from fundamen.formats.unix.elf_symbols import read_exports  # noqa: PLC0415 - only where exports are asked for

            names = read_exports(source, binary)
        elif exports and isinstance(binary, Pe):
            from fundamen.formats.windows.pe_exports import read_exports as read_pe_exports  # noqa: PLC0415

            names = read_pe_exports(source, binary).all_names()
        signed: tuple[str, ...] = ()
        if binary.format is Format.MACHO:
            from fundamen.trace.mac_inspection import exports_of, signatures_of  # noqa: PLC0415 - only for such a file

            names = exports_of(source, binary) if exports else None
            signed = signatures_of(source, binary)
        managed = _read_managed(source, binary)
        testimonies = _ask(machine, path, binary, authorities)
        counts = weigh(testimonies)
        verdict = counts.says.verdict if counts is not None else Verdict.UNVERIFIED
        publisher = (
            publishers.judge(machine, path, source, binary) if publishers is not None and binary.may_be_signed else None
        )
        return Inspection(
            path=path,
            binary=binary,
            sha256=machine.digest(path, "sha256"),
            version=version_of(machine, path, binary),
            exports=names,
            managed=managed,
            evidence=tuple(Evidence(testimony.speaker, testimony.detail) for testimony in testimonies),
            is_altered=verdict is Verdict.CORRUPT or _is_tampered(publisher),
            is_untrusted=verdict is Verdict.UNTRUSTED
            or (machine.platform is Platform.WINDOWS and _is_untrusted(publisher)),
            publisher=publisher,
            signed=signed,
        )


def holds_certificates(machine: Machine, path: MachinePath) -> bool:
    """Whether a file looks like one of certificates rather than a program.

    Raises:
        UnreadableError: it cannot be read.
    """
    with machine.open(path) as source:
        return looks_like_certificates(source.read_at(0, 4096))


def _ask(machine: Machine, path: MachinePath, binary: Binary, authorities: Sequence[Authority]) -> list[Testimony]:
    subject = Subject(path, binary.name or machine.paths.basename(path), binary.architecture)
    return [found for each in authorities for found in each.testify(machine, [subject]).values()]


def _is_tampered(publisher: "Publisher | None") -> bool:
    return publisher is not None and publisher.verdict == "tampered"


def _is_untrusted(publisher: "Publisher | None") -> bool:
    return publisher is not None and publisher.verdict == "untrusted"


def _read_managed(source: ByteSource, binary: Binary) -> Managed | None:
    if not (isinstance(binary, Pe) and binary.is_managed):
        return None
    with contextlib.suppress(DamagedFileError):
        return read_managed(source, binary)
    return None
