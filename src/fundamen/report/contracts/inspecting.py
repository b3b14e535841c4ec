"""The contract of ``inspect --json``."""

from typing import TYPE_CHECKING, Literal

import msgspec

from fundamen.formats.managed.cli_header import Managed
from fundamen.messages import Message
from fundamen.report.contracts.line import Failure
from fundamen.report.contracts.tracing import EvidencePart
from fundamen.report.contracts.trust import CertificatesPart, PublisherPart, certificates_part, publisher_part
from fundamen.trace.inspection import Inspection

if TYPE_CHECKING:
    from fundamen.trace.certificates import CertificateInspection


class FileNeedPart(msgspec.Struct, frozen=True):
    """One library that a file names."""

    name: str
    how: Literal["required", "delayed", "optional"]


class ManagedPart(msgspec.Struct, frozen=True):
    """The metadata of a managed image; assemblies by their full names."""

    runtime_version: str
    target_framework: str | None
    width: str
    assembly: str | None
    references: tuple[str, ...]
    native_libraries: tuple[str, ...]
    is_reference: bool = False  # only to compile against


class InspectRecord(msgspec.Struct, frozen=True, kw_only=True):
    """One file, for ``inspect --json``."""

    schema: Literal["fundamen.inspect/2"] = "fundamen.inspect/2"
    path: str
    format: str | None = None
    kind: str | None = None
    architectures: tuple[str, ...] = ()
    name: str | None = None  # SONAME, or the DLL name in the export table
    version: str | None = None
    needs: tuple[FileNeedPart, ...] = ()
    structure: Literal["intact", "damaged"] | None = None
    problems: tuple[Message, ...] = ()
    sha256: str | None = None
    size: int | None = None
    publisher: PublisherPart | None = None
    exports: tuple[str, ...] | None = None
    managed: ManagedPart | None = None
    certificates: CertificatesPart | None = None  # of a file of certificates, or a server
    evidence: tuple[EvidencePart, ...] = ()  # whose file it is, and what those who can know say of its bytes
    error: Failure | None = None


def inspect_record(inspection: Inspection) -> InspectRecord:
    """The contract's form of an inspection."""
    binary = inspection.binary
    return InspectRecord(
        path=inspection.path,
        format=binary.format,
        kind=binary.kind,
        architectures=(binary.architecture, *binary.also_for),
        name=binary.name,
        version=inspection.version,
        needs=tuple(FileNeedPart(need.name, need.how.value) for need in binary.needs),
        structure="intact" if binary.is_intact else "damaged",
        problems=tuple(problem.sentence for problem in binary.problems),
        sha256=inspection.sha256,
        size=binary.size,
        exports=inspection.exports,
        evidence=tuple(EvidencePart(e.source, e.detail) for e in inspection.evidence),
        publisher=publisher_part(inspection.publisher) if inspection.publisher is not None else None,
        managed=_managed_part(inspection.managed) if inspection.managed is not None else None,
    )


def certificates_record(inspection: "CertificateInspection") -> InspectRecord:
    """The contract's form of some certificates."""
    return InspectRecord(path=inspection.title, format="certificates", certificates=certificates_part(inspection))


def _managed_part(managed: Managed) -> ManagedPart:
    return ManagedPart(
        runtime_version=managed.runtime_version,
        target_framework=managed.target_framework,
        width=managed.width,
        assembly=str(managed.assembly) if managed.assembly is not None else None,
        references=tuple(map(str, managed.references)),
        native_libraries=managed.native_libraries,
        is_reference=managed.is_reference,
    )
