"""Read PE files: identity, sections, imports and delay imports, and whether the tables fit the file.

Source of the layouts: Microsoft's PE Format specification (headers, section table, .idata, delay-load tables).
"""

import struct
from enum import IntEnum, IntFlag

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, StructureFindings
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, BinaryKind, Format, Necessity, Need
from fundamen.model.errors import DamagedFileError

_LFANEW_AT = 0x3C
_SIGNATURE = b"PE\0\0"
_U16 = struct.Struct("<H")
_U32 = struct.Struct("<I")
_U64 = struct.Struct("<Q")
_COFF = struct.Struct("<HHIIIHH")
_SECTION = struct.Struct("<8sIIIIIIHHI")
_DIRECTORY = struct.Struct("<II")
_IMPORT = struct.Struct("<IIIII")
_DELAY_IMPORT = struct.Struct("<IIIIIIII")
CLI_HEADER = struct.Struct("<IHHIIII")  # size, runtime version twice, metadata RVA and size, flags, entry point
_HYBRID_METADATA_AT = 200  # bytes into the load configuration of a 64-bit image
EXPORT_TABLE = struct.Struct("<IIHHIIIIIII")
_MAX_SECTIONS = 96  # the image loader's own limit
_MAX_IMPORTED_LIBRARIES = 4096

_FILE_EXECUTABLE_IMAGE = 0x0002
_FILE_DLL = 0x2000


class OptionalMagic(IntEnum):
    """The optional header's magic."""

    PE32 = 0x10B
    PE32_PLUS = 0x20B


class DataDirectory(IntEnum):
    """Indexes into the optional header's data directories that are used here."""

    EXPORT = 0
    IMPORT = 1
    RESOURCE = 2
    SECURITY = 4  # its address is a file offset, not an RVA
    LOAD_CONFIG = 10
    DELAY_IMPORT = 13
    CLR = 14


class CliFlags(IntFlag):
    """The CLI header's flags that tell which processors a managed image is for. Source: ECMA-335, II.25.3.3.1."""

    IL_ONLY = 0x1
    REQUIRES_32_BITS = 0x2
    PREFERS_32_BITS = 0x20000  # always together with REQUIRES_32_BITS


class Section(msgspec.Struct, frozen=True):
    """One section header."""

    name: str
    virtual_size: int  # bytes in memory
    rva: int
    raw_size: int  # bytes in the file
    offset: int  # bytes from the start of the file


class ImportedLibrary(msgspec.Struct, frozen=True):
    """One entry of the import table or the delay import table."""

    name: str
    how: Necessity
    lookup_rva: int  # of the list of functions that are imported from it


class Pe(Binary, frozen=True, kw_only=True):
    """One PE file: what every binary has, and what the image loader looks at."""

    machine: int  # the COFF header's Machine
    is_pe32_plus: bool
    cli_flags: CliFlags | None  # of the CLI header; None where the image is not managed, or its header is damaged
    imports: tuple[ImportedLibrary, ...]  # an entry for each time that a library is named
    timestamp: int  # TimeDateStamp as it stands; often a digest nowadays
    sections: tuple[Section, ...]
    directories: tuple[tuple[int, int], ...]  # (rva, size) by Directory
    headers_size: int  # bytes at the start of the file that are mapped as they are

    @property
    def is_managed(self) -> bool:
        """Whether it has a CLI header."""
        return len(self.directories) > DataDirectory.CLR and self.directories[DataDirectory.CLR][0] != 0

    def offset_of(self, rva: int) -> int | None:
        """The place in the file of an RVA; None where no bytes of the file are mapped there."""
        return _offset_of(self.sections, self.headers_size, rva)


# Source: PE Format, Machine Types.
_I386, _AMD64, _ARM64 = 0x014C, 0x8664, 0xAA64
_ARCHITECTURES = {
    0x014C: Architecture.X86,
    0x8664: Architecture.X86_64,
    0x01C0: Architecture.ARM,
    0x01C2: Architecture.ARM,
    0x01C4: Architecture.ARM,
    0xAA64: Architecture.AARCH64,
    0x0200: Architecture.IA64,
    0x5032: Architecture.RISCV32,
    0x5064: Architecture.RISCV64,
    0x6264: Architecture.LOONGARCH64,
}


def read_pe(source: ByteSource) -> Pe:
    """Read a file that begins with ``MZ``. Damage is reported in ``problems``.

    Raises:
        DamagedFileError: the file is an old MS-DOS program or data, with no PE header at all.
    """
    return _PeReader(source).read()


def _offset_of(sections: tuple[Section, ...], headers_size: int, rva: int) -> int | None:
    for section in sections:
        if 0 <= rva - section.rva < max(section.virtual_size, section.raw_size):
            within = rva - section.rva
            return section.offset + within if within < section.raw_size else None
    return rva if rva < headers_size else None


def cursor_at(source: ByteSource, pe: Pe, rva: int, what: str) -> Cursor:
    """A cursor at an RVA of an image that was read.

    Raises:
        DamagedFileError: no section holds the RVA.
    """
    return _cursor_at_offset(source, pe.offset_of(rva), rva, what)


def _cursor_at_offset(source: ByteSource, offset: int | None, rva: int, what: str) -> Cursor:
    if offset is None:
        raise DamagedFileError(
            what=say("formats.cannot-be-read-on", name=source.name),
            why=say("formats.its-at-rva-lies-in-no", what=what, rva=rva),
            do=say("formats.compare-the-file-with-its-publisher"),
        )
    return Cursor(source, offset)


class _PeReader:
    """Reads table by table; what a damaged table would have given stays at its empty value."""

    def __init__(self, source: ByteSource) -> None:
        self._source = source
        self._findings = StructureFindings()
        self._machine = self._timestamp = self._characteristics = 0
        self._section_count = self._optional_size = self._headers_size = 0
        self._is_pe32_plus = False
        self._image_base = 0
        self._sections: tuple[Section, ...] = ()
        self._directories: tuple[tuple[int, int], ...] = ()

    def read(self) -> Pe:
        header_at = self._find_header()
        cursor = Cursor(self._source, header_at)
        name: str | None = None
        imports: tuple[ImportedLibrary, ...] = ()
        delayed: tuple[ImportedLibrary, ...] = ()
        cli_flags: CliFlags | None = None
        is_hybrid = False
        with self._findings.of("COFF header"):
            self._read_coff_header(cursor)
            with self._findings.of("optional header"):
                self._read_optional_header(Cursor(self._source, cursor.at))
            cursor.at += self._optional_size
            with self._findings.of("section table"):
                self._read_sections(cursor)
            with self._findings.of("certificate table"):
                self._check_certificates()
            with self._findings.of("CLI header"):
                cli_flags = self._read_cli_flags()
            with self._findings.of("load configuration"):
                is_hybrid = self._is_hybrid()
            with self._findings.of("export table"):
                name = self._read_export_name()
            with self._findings.of("import table"):
                imports = self._read_imports()
            with self._findings.of(say("formats.delay-import-table")):
                delayed = self._read_delay_imports()
        needs = dict.fromkeys(Need(library.name, library.how) for library in (*imports, *delayed))
        return Pe(
            format=Format.PE,
            kind=self._kind(),
            architecture=self._architecture(cli_flags, is_hybrid=is_hybrid),
            name=name,
            needs=tuple(needs),
            problems=self._findings.all_problems(),
            size=self._source.size,
            machine=self._machine,
            is_pe32_plus=self._is_pe32_plus,
            cli_flags=cli_flags,
            imports=(*imports, *delayed),
            timestamp=self._timestamp,
            sections=self._sections,
            directories=self._directories,
            headers_size=self._headers_size,
            also_for=(Architecture.ARM64EC,) if is_hybrid and self._machine == _ARM64 else (),
        )

    def _architecture(self, cli_flags: CliFlags | None, *, is_hybrid: bool) -> Architecture:
        """The architecture of the image, of which its header alone may say only a part."""
        if is_hybrid and self._machine == _AMD64:
            return Architecture.ARM64EC
        if cli_flags is not None and self._machine == _I386 and cli_flags & CliFlags.IL_ONLY:
            demands = cli_flags & (CliFlags.REQUIRES_32_BITS | CliFlags.PREFERS_32_BITS)
            return Architecture.X86 if demands == CliFlags.REQUIRES_32_BITS else Architecture.ANY
        return _ARCHITECTURES.get(self._machine, Architecture.UNKNOWN)

    def _read_cli_flags(self) -> CliFlags | None:
        rva, _ = self._directory(DataDirectory.CLR)
        return CliFlags(self._cursor_at(rva, "CLI header").unpack(CLI_HEADER, "CLI header")[5]) if rva else None

    def _is_hybrid(self) -> bool:
        """Whether the load configuration names hybrid metadata (CHPEMetadataPointer, IMAGE_LOAD_CONFIG_DIRECTORY)."""
        rva, _ = self._directory(DataDirectory.LOAD_CONFIG)
        if not rva or self._machine not in {_AMD64, _ARM64}:
            return False
        cursor = self._cursor_at(rva, "load configuration")
        start = cursor.at
        if cursor.unpack(_U32, "load configuration")[0] < _HYBRID_METADATA_AT + _U64.size:
            return False
        cursor.at = start + _HYBRID_METADATA_AT
        return bool(cursor.unpack(_U64, "load configuration")[0])

    def _kind(self) -> BinaryKind:
        if self._characteristics & _FILE_DLL:
            return BinaryKind.LIBRARY
        return BinaryKind.PROGRAM if self._characteristics & _FILE_EXECUTABLE_IMAGE else BinaryKind.OTHER

    def _find_header(self) -> int:
        """Where the PE signature is. A file cut before it cannot be distinguished from an MS-DOS program's stub."""
        cursor = Cursor(self._source, _LFANEW_AT)
        header_at = int(cursor.unpack(_U32, "MS-DOS header")[0])
        cursor.at = header_at
        if cursor.take(len(_SIGNATURE), "PE signature") != _SIGNATURE:
            raise DamagedFileError(
                what=say("formats.is-not-a-windows-executable", name=self._source.name),
                why=say("formats.it-begins-like-one-but-has", header_at=header_at),
                do=say("formats.compare-the-file-with-its-publisher"),
            )
        return header_at + len(_SIGNATURE)

    def _read_coff_header(self, cursor: Cursor) -> None:
        self._machine, count, self._timestamp, _, _, self._optional_size, self._characteristics = cursor.unpack(
            _COFF, "COFF header"
        )
        if count > _MAX_SECTIONS:
            self._findings.add(
                "COFF header", say("formats.claims-sections-an-image-has-at", count=count, max_sections=_MAX_SECTIONS)
            )
            count = 0
        self._section_count = count

    def _read_optional_header(self, cursor: Cursor) -> None:
        start = cursor.at
        magic = cursor.unpack(_U16, "optional header's magic")[0]
        if magic not in set(OptionalMagic):
            self._findings.add("optional header", say("formats.magic-is-neither-pe32-nor-pe32", magic=magic))
            return
        self._is_pe32_plus = magic == OptionalMagic.PE32_PLUS
        if self._is_pe32_plus:
            cursor.at = start + 24
            self._image_base = cursor.unpack(struct.Struct("<Q"), "image base")[0]
        else:
            cursor.at = start + 28
            self._image_base = cursor.unpack(_U32, "image base")[0]
        cursor.at = start + 60
        self._headers_size = cursor.unpack(_U32, "size of headers")[0]
        self._findings.check_extent("headers", 0, self._headers_size, self._source.size)
        cursor.at = start + (108 if self._is_pe32_plus else 92)
        count = cursor.unpack(_U32, "number of data directories")[0]
        fitting = max(0, start + self._optional_size - cursor.at) // _DIRECTORY.size
        entries = cursor.table(_DIRECTORY, min(count, fitting, 16), "data directories")
        self._directories = tuple((rva, size) for rva, size in entries)

    def _read_sections(self, cursor: Cursor) -> None:
        sections = []
        for header in cursor.table(_SECTION, self._section_count, "section table"):
            name, virtual_size, rva, raw_size, offset, *_ = header
            text = name.rstrip(b"\0").decode("utf-8", "surrogateescape")
            section = Section(text, virtual_size, rva, raw_size, offset)
            sections.append(section)
            if raw_size:
                place = say("formats.section", count=len(sections), text=text)
                self._findings.check_extent(place, offset, raw_size, self._source.size)
        self._sections = tuple(sections)

    def _directory(self, which: DataDirectory) -> tuple[int, int]:
        return self._directories[which] if which < len(self._directories) else (0, 0)

    def _check_certificates(self) -> None:
        offset, size = self._directory(DataDirectory.SECURITY)
        if offset:
            self._findings.check_extent("certificate table", offset, size, self._source.size)

    def _cursor_at(self, rva: int, what: str) -> Cursor:
        return _cursor_at_offset(self._source, _offset_of(self._sections, self._headers_size, rva), rva, what)

    def _name_at(self, rva: int, what: str) -> str:
        return self._cursor_at(rva, what).text(what, limit=512)

    def _read_export_name(self) -> str | None:
        rva, _ = self._directory(DataDirectory.EXPORT)
        if not rva:
            return None
        name_rva = self._cursor_at(rva, "export table").unpack(EXPORT_TABLE, "export table")[4]
        return self._name_at(name_rva, "DLL name") if name_rva else None

    def _read_imports(self) -> tuple[ImportedLibrary, ...]:
        rva, _ = self._directory(DataDirectory.IMPORT)
        if not rva:
            return ()
        cursor = self._cursor_at(rva, "import table")
        libraries: list[ImportedLibrary] = []
        while len(libraries) < _MAX_IMPORTED_LIBRARIES:
            lookup, _, _, name_rva, addresses = cursor.unpack(_IMPORT, "import table")
            if not name_rva or not (lookup or addresses):
                return tuple(libraries)
            name = self._name_at(name_rva, say("formats.imported-library-name"))
            # Some linkers leave the lookup table out; the address table holds the same until the image is bound.
            libraries.append(ImportedLibrary(name, Necessity.REQUIRED, lookup or addresses))
        self._findings.add(
            "import table", say("formats.has-no-end-within-entries", max_imported_libraries=_MAX_IMPORTED_LIBRARIES)
        )
        return ()

    def _read_delay_imports(self) -> tuple[ImportedLibrary, ...]:
        rva, _ = self._directory(DataDirectory.DELAY_IMPORT)
        if not rva:
            return ()
        cursor = self._cursor_at(rva, say("formats.delay-import-table"))
        libraries: list[ImportedLibrary] = []
        while len(libraries) < _MAX_IMPORTED_LIBRARIES:
            attributes, name_rva, _, _, lookup, *_ = cursor.unpack(_DELAY_IMPORT, "delay import table")
            if not name_rva:
                return tuple(libraries)
            base = 0 if attributes & 1 else self._image_base  # the table's first generation held addresses, not RVAs
            name = self._name_at(name_rva - base, say("formats.delay-loaded-library-name"))
            libraries.append(ImportedLibrary(name, Necessity.DELAYED, lookup - base))
        self._findings.add(
            say("formats.delay-import-table"),
            say("formats.has-no-end-within-entries", max_imported_libraries=_MAX_IMPORTED_LIBRARIES),
        )
        return ()
