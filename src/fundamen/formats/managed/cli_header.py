"""Read what a managed image says of itself: its assembly, what it refers to, and what it runs on.

Source: ECMA-335, 6th edition, Partition II, 25.3.3 (CLI header), 22.2 (Assembly), 22.5 (AssemblyRef), 22.22 (ImplMap),
23.3 (custom attributes).
"""

import hashlib
import struct
from itertools import islice

import msgspec

from fundamen.formats.byte_source import ByteSource, MemoryBytes
from fundamen.formats.cursor import Cursor
from fundamen.formats.managed.cli_tables import Metadata, MetadataTable, decode_coded_index, read_compressed
from fundamen.formats.windows.pe import CLI_HEADER, CliFlags, DataDirectory, Pe, cursor_at
from fundamen.messages import say
from fundamen.model.architecture import Architecture

_NATIVE_HEADER_AT = 64  # bytes into the CLI header: RVA and size of what a compiler ahead of time has added
_READY_TO_RUN = struct.Struct("<IHHI")  # signature, version twice, flags
_READY_TO_RUN_SIGNATURE = 0x00525452  # "RTR"
_WAS_NEUTRAL = 0x1  # the assembly was for any processor before it was compiled ahead of time
_HAS_PUBLIC_KEY = 0x1  # of an assembly reference's flags: the whole key is given and not its token
_OF_THE_ASSEMBLY = 1 << 5 | 14  # as HasCustomAttribute codes row 1 of the table Assembly
_TARGET, _REFERENCE = "TargetFrameworkAttribute", "ReferenceAssemblyAttribute"
_MAX_REFERENCES = 10_000
_TOKEN_SIZE = 8  # bytes


class AssemblyName(msgspec.Struct, frozen=True):
    """The full name of a managed assembly."""

    name: str
    version: str  # four numbers
    culture: str  # empty for the neutral one
    token: str  # hexadecimal; empty where it is not signed

    def __str__(self) -> str:
        culture = self.culture or "neutral"
        return f"{self.name}, Version={self.version}, Culture={culture}, PublicKeyToken={self.token or 'null'}"


class Managed(msgspec.Struct, frozen=True):
    """The metadata of a managed image."""

    runtime_version: str  # of the metadata, such as v4.0.30319
    target_framework: str | None  # such as .NETFramework,Version=v4.7.2; None where it names none
    is_pure: bool  # no native code inside
    requires_32_bits: bool
    prefers_32_bits: bool
    is_neutral: bool  # may be loaded into a process of any architecture
    assembly: AssemblyName | None
    references: tuple[AssemblyName, ...]
    native_libraries: tuple[str, ...]  # that are called through platform invoke, as the image spells them
    is_reference: bool = False  # only to compile against: no runtime takes it

    @property
    def width(self) -> str:
        """Which processors it is for, in words."""
        if self.requires_32_bits:
            return "32 bits only"
        if not self.is_pure:
            return say("formats.mixed-with-native-code-for-that")
        return say("formats.any-processor-32-bits-preferred") if self.prefers_32_bits else "any processor"


def read_managed(source: ByteSource, pe: Pe) -> Managed | None:
    """Read the CLI header and metadata; None where the image is not managed.

    Raises:
        DamagedFileError: the header or a table does not fit the file.
    """
    if not pe.is_managed:
        return None
    cursor = cursor_at(source, pe, pe.directories[DataDirectory.CLR][0], "CLI header")
    header_at = cursor.at
    _, _, _, metadata_rva, _, bits, _ = cursor.unpack(CLI_HEADER, "CLI header")
    flags = CliFlags(bits)
    metadata = Metadata(source, cursor_at(source, pe, metadata_rva, "metadata").at)
    attributes = _attributes(metadata)
    references = [
        _reference(metadata, row) for row in islice(metadata.rows(MetadataTable.ASSEMBLY_REF), _MAX_REFERENCES)
    ]
    own = metadata.row(MetadataTable.ASSEMBLY, 1)
    prefers = CliFlags.PREFERS_32_BITS in flags
    return Managed(
        runtime_version=metadata.version,
        target_framework=_first_text(attributes[_TARGET]) if _TARGET in attributes else None,
        is_pure=CliFlags.IL_ONLY in flags,
        requires_32_bits=CliFlags.REQUIRES_32_BITS in flags and not prefers,
        prefers_32_bits=prefers,
        is_neutral=pe.architecture is Architecture.ANY or _was_neutral(source, pe, header_at),
        assembly=_own_name(metadata, own) if own is not None else None,
        references=tuple(references),
        native_libraries=_native_libraries(metadata),
        is_reference=_REFERENCE in attributes,
    )


def _was_neutral(source: ByteSource, pe: Pe, header_at: int) -> bool:
    """Whether native code was only added to an assembly that still runs without it. Source: readytorun.h."""
    rva, size = Cursor(source, header_at + _NATIVE_HEADER_AT).unpack(struct.Struct("<II"), "managed native header")
    if not rva or size < _READY_TO_RUN.size:
        return False
    signature, _, _, flags = cursor_at(source, pe, rva, "managed native header").unpack(_READY_TO_RUN, "native header")
    return signature == _READY_TO_RUN_SIGNATURE and bool(flags & _WAS_NEUTRAL)


def _own_name(metadata: Metadata, row: tuple[int, ...]) -> AssemblyName:
    _, major, minor, build, revision, _, key, name, culture = row
    token = _token(metadata.blob(key)) if key else ""
    return AssemblyName(metadata.text(name), f"{major}.{minor}.{build}.{revision}", metadata.text(culture), token)


def _reference(metadata: Metadata, row: tuple[int, ...]) -> AssemblyName:
    major, minor, build, revision, flags, key, name, culture, _ = row
    data = metadata.blob(key) if key else b""
    token = _token(data) if flags & _HAS_PUBLIC_KEY and data else data.hex()
    return AssemblyName(metadata.text(name), f"{major}.{minor}.{build}.{revision}", metadata.text(culture), token)


def _token(public_key: bytes) -> str:
    """A public key's token: the last eight bytes of its SHA-1, reversed (II.6.3)."""
    return hashlib.sha1(public_key, usedforsecurity=False).digest()[-_TOKEN_SIZE:][::-1].hex()


def _native_libraries(metadata: Metadata) -> tuple[str, ...]:
    names: dict[str, None] = {}
    for *_, module in metadata.rows(MetadataTable.IMPL_MAP):
        row = metadata.row(MetadataTable.MODULE_REF, module)
        if row is not None:
            names.setdefault(metadata.text(row[0]))
    return tuple(names)


def _attributes(metadata: Metadata) -> dict[str, bytes]:
    """The attributes of the assembly that are read here, by name, with their arguments."""
    rows = metadata.rows_of(MetadataTable.CUSTOM_ATTRIBUTE, _OF_THE_ASSEMBLY)
    named = ((_attribute_name(metadata, kind), value) for _, kind, value in islice(rows, _MAX_REFERENCES))
    return {name: metadata.blob(value) for name, value in named if name in (_TARGET, _REFERENCE)}


def _attribute_name(metadata: Metadata, kind: int) -> str:
    """The name of an attribute whose constructor another assembly has; empty for one of this assembly's own."""
    table, number = decode_coded_index("CustomAttributeType", kind)
    constructor = metadata.row(table, number) if table == MetadataTable.MEMBER_REF else None
    if constructor is None:
        return ""
    table, number = decode_coded_index("MemberRefParent", constructor[0])
    reference = metadata.row(table, number) if table == MetadataTable.TYPE_REF else None
    return metadata.text(reference[1]) if reference is not None else ""


def _first_text(blob: bytes) -> str | None:
    """The first argument of a custom attribute, if it is a text: a prolog, a compressed length, UTF-8."""
    cursor = Cursor(MemoryBytes(blob, say("formats.the-target-framework-attribute")))
    if cursor.take(2, "prolog") != b"\x01\x00":
        return None
    length = read_compressed(cursor.take(1, "length"), cursor)
    return cursor.take(length, "text").decode("utf-8", "replace") if length < len(blob) else None
