"""Read ELF files: identity, segments, the dynamic section, and whether the tables fit the file.

Source of the layouts: System V gABI, ch. 4 (ELF Header, Sections) and ch. 5 (Program Header, Dynamic Section).
"""

import struct
from enum import IntEnum
from itertools import takewhile
from operator import itemgetter
from typing import Any

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, StructureFindings
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, BinaryKind, Format, Necessity, Need

MAGIC = b"\x7fELF"

_IDENT_SIZE = 16
_PN_XNUM = 0xFFFF  # the true count of program headers stands in section 0
_MAX_SEGMENTS = 65_536
_MAX_SECTIONS = 1_000_000
_MAX_DYNAMIC = 100_000
_SHT_NOBITS = 8
_ISA_1_NEEDED = 0xC0008002  # GNU_PROPERTY_X86_ISA_1_NEEDED
_LONGEST_NOTE = 4096  # bytes
_LONGEST_NAME = 4096  # bytes


class ElfType(IntEnum):
    """Values of e_type."""

    REL = 1
    EXEC = 2
    DYN = 3
    CORE = 4


class SegmentType(IntEnum):
    """Values of p_type that are used here."""

    LOAD = 1
    DYNAMIC = 2
    INTERP = 3
    NOTE = 4
    GNU_PROPERTY = 0x6474E553


class Tag(IntEnum):
    """Values of d_tag that are used here. Source: gABI ch. 5, and elf.h for the GNU ones."""

    NULL = 0
    NEEDED = 1
    HASH = 4
    STRTAB = 5
    SYMTAB = 6
    RELA = 7
    RELASZ = 8
    STRSZ = 10
    SYMENT = 11
    SONAME = 14
    RPATH = 15
    PLTRELSZ = 2
    REL = 17
    RELSZ = 18
    PLTREL = 20
    JMPREL = 23
    BIND_NOW = 24
    FLAGS = 30
    RUNPATH = 29
    FLAGS_1 = 0x6FFFFFFB
    GNU_HASH = 0x6FFFFEF5
    VERDEF = 0x6FFFFFFC
    VERDEFNUM = 0x6FFFFFFD
    VERNEED = 0x6FFFFFFE
    VERNEEDNUM = 0x6FFFFFFF
    AUXILIARY = 0x7FFFFFFD
    FILTER = 0x7FFFFFFF


_KINDS = {
    int(ElfType.DYN): BinaryKind.LIBRARY,
    int(ElfType.REL): BinaryKind.OBJECT,
    int(ElfType.CORE): BinaryKind.CORE_DUMP,
}
# Plain numbers of what is asked for every file: an enumeration's member costs more to name than to compare.
_LOAD, _DYNAMIC, _INTERP = int(SegmentType.LOAD), int(SegmentType.DYNAMIC), int(SegmentType.INTERP)
_IN_FILE = frozenset({_LOAD, _DYNAMIC, _INTERP, int(SegmentType.NOTE)})  # segments that must lie in the file
_STRTAB, _STRSZ = int(Tag.STRTAB), int(Tag.STRSZ)
_NEEDED, _SONAME, _RPATH = int(Tag.NEEDED), int(Tag.SONAME), int(Tag.RPATH)
_RUNPATH, _FILTER, _AUXILIARY = int(Tag.RUNPATH), int(Tag.FILTER), int(Tag.AUXILIARY)
_NAMED = (_NEEDED, _SONAME, _RPATH, _RUNPATH, _FILTER, _AUXILIARY)  # whose values are places in the string table

_DF_1_NODEFLIB = 0x800
_DF_1_PIE = 0x0800_0000


class ElfHeader(msgspec.Struct, frozen=True):
    """The file header after e_ident."""

    type: int  # often an ElfType
    machine: int
    version: int
    entry: int  # address
    segments_at: int  # e_phoff, bytes from the start of the file
    sections_at: int  # e_shoff, likewise
    flags: int
    header_size: int  # bytes
    segment_size: int  # e_phentsize, bytes of one program header
    segment_count: int
    section_size: int  # e_shentsize, bytes of one section header
    section_count: int
    names_section: int


class Segment(msgspec.Struct, frozen=True):
    """One program header."""

    type: int  # often a SegmentType
    offset: int  # bytes from the start of the file
    address: int  # where it is mapped, before relocation
    file_size: int  # bytes
    memory_size: int  # bytes


class Elf(Binary, frozen=True, kw_only=True):
    """One ELF file: what every binary has, and what a loader of ELF files looks at."""

    bits: int  # 32 or 64; 0 where the identification is damaged
    big_endian: bool
    machine: int  # e_machine
    type: int  # e_type, often an ElfType
    os_abi: int  # EI_OSABI
    abi_version: int  # EI_ABIVERSION
    padding: bytes  # of the identification; zero in every file that a loader takes
    filters: tuple[Need, ...]  # DT_FILTER, and DT_AUXILIARY, which may be missing
    interpreter: str | None  # PT_INTERP, as the file spells it
    rpath: str | None  # DT_RPATH; the loader ignores it where there is a runpath
    runpath: str | None
    no_default_folders: bool  # DF_1_NODEFLIB
    is_dynamic: bool
    needed_levels: int  # bits of GNU_PROPERTY_X86_ISA_1_NEEDED; 0 where it demands nothing beyond its architecture
    segments: tuple[Segment, ...]
    dynamic: tuple[tuple[int, int], ...]  # (d_tag, d_val) in order, up to DT_NULL

    def offset_of(self, address: int) -> int | None:
        """The place in the file of a mapped address; None where no segment holds it."""
        return _offset_of(self.segments, address)

    def tags(self) -> dict[int, int]:
        """The values of the dynamic entries by their tags; the last one of a tag counts, as it does for the loader."""
        return dict(self.dynamic)

    def tag(self, tag: Tag) -> int | None:
        """The value of one dynamic entry."""
        return self.tags().get(tag)


class _Layout(msgspec.Struct, frozen=True):
    """The records of one class and byte order."""

    header: struct.Struct
    segment: struct.Struct
    section: struct.Struct
    dynamic: struct.Struct


def _layout(order: str, bits: int) -> _Layout:
    if bits == 64:  # noqa: PLR2004 - ELFCLASS64
        records = ("HHIQQQIHHHHHH", "IIQQQQQQ", "IIQQQQIIQQ", "qQ")
    else:
        records = ("HHIIIIIHHHHHH", "IIIIIIII", "IIIIIIIIII", "iI")
    return _Layout(*(struct.Struct(order + record) for record in records))


_LAYOUTS = {(order, bits): _layout(order, bits) for order in "<>" for bits in (32, 64)}

# e_machine -> architecture by (bits, big_endian); None stands for "whatever it is". Source: gABI, e_machine.
_ARCHITECTURES: dict[int, dict[tuple[int, bool] | None, Architecture]] = {
    2: {None: Architecture.SPARC},
    3: {None: Architecture.X86},
    4: {None: Architecture.M68K},
    8: {
        (32, True): Architecture.MIPS,
        (32, False): Architecture.MIPSEL,
        (64, True): Architecture.MIPS64,
        (64, False): Architecture.MIPS64EL,
    },
    15: {None: Architecture.PARISC},
    18: {None: Architecture.SPARC},
    20: {None: Architecture.PPC},
    21: {(64, True): Architecture.PPC64, (64, False): Architecture.PPC64LE},
    22: {(32, True): Architecture.S390, (64, True): Architecture.S390X},
    40: {None: Architecture.ARM},
    42: {None: Architecture.SH},
    43: {None: Architecture.SPARC64},
    50: {None: Architecture.IA64},
    62: {(64, False): Architecture.X86_64, (32, False): Architecture.X32},
    183: {None: Architecture.AARCH64},
    243: {(32, False): Architecture.RISCV32, (64, False): Architecture.RISCV64},
    258: {(64, False): Architecture.LOONGARCH64},
    0x9026: {None: Architecture.ALPHA},
}


def architecture_of(machine: int, bits: int, *, big_endian: bool) -> Architecture:
    """The architecture that e_machine, the class and the byte order name together."""
    known = _ARCHITECTURES.get(machine, {})
    return known.get((bits, big_endian)) or known.get(None) or Architecture.UNKNOWN


def read_elf(source: ByteSource) -> Elf:
    """Read an ELF file that begins with MAGIC. Damage is reported in ``problems``; nothing is raised for it."""
    return _ElfReader(source).read()


class _ElfReader:
    """Reads table by table; what a damaged table would have given stays at its empty value."""

    def __init__(self, source: ByteSource) -> None:
        self._source = source
        self._findings = StructureFindings()
        self._ident = bytes(_IDENT_SIZE)
        self._bits = 0
        self._big_endian = False
        self._layout = _LAYOUTS["<", 64]
        self._header: ElfHeader | None = None
        self._segments: tuple[Segment, ...] = ()
        self._dynamic: tuple[tuple[int, int], ...] = ()

    def read(self) -> Elf:
        interpreter: str | None = None
        with self._findings.of("ELF header"):
            self._header = self._read_header()
        if self._header:
            with self._findings.of(say("formats.section-header-table")):
                self._check_sections(self._header)
            with self._findings.of(say("formats.program-header-table")):
                self._segments = self._read_segments(self._header)
            with self._findings.of(say("formats.interpreter-path-pt-interp")):
                interpreter = self._read_interpreter()
            with self._findings.of("dynamic section"):
                self._dynamic = self._read_dynamic()
        return self._record(interpreter)

    def _record(self, interpreter: str | None) -> Elf:
        machine, type_ = (self._header.machine, self._header.type) if self._header else (0, 0)
        names: dict[int, list[str]] = {tag: [] for tag in _NAMED}
        values = dict(self._dynamic)
        with self._findings.of(say("formats.dynamic-string-table")):
            self._read_names(names, values)
        flags_1 = values.get(Tag.FLAGS_1, 0)
        soname = names[_SONAME][-1] if names[_SONAME] else None
        return Elf(
            format=Format.ELF,
            kind=_kind(type_, interpreter, soname, is_pie=bool(flags_1 & _DF_1_PIE)),
            architecture=architecture_of(machine, self._bits, big_endian=self._big_endian),
            name=soname,
            needs=tuple([Need(name) for name in names[_NEEDED]]),
            problems=self._findings.all_problems(),
            size=self._source.size,
            bits=self._bits,
            big_endian=self._big_endian,
            machine=machine,
            type=type_,
            os_abi=self._ident[7],
            abi_version=self._ident[8],
            padding=self._ident[9:],
            filters=(
                *[Need(name) for name in names[_FILTER]],
                *[Need(name, Necessity.OPTIONAL) for name in names[_AUXILIARY]],
            ),
            interpreter=interpreter,
            rpath=names[_RPATH][-1] if names[_RPATH] else None,
            runpath=names[_RUNPATH][-1] if names[_RUNPATH] else None,
            no_default_folders=bool(flags_1 & _DF_1_NODEFLIB),
            is_dynamic=bool(self._dynamic),
            needed_levels=self._read_needed_levels(),
            segments=self._segments,
            dynamic=self._dynamic,
        )

    def _read_header(self) -> ElfHeader | None:
        cursor = Cursor(self._source)
        ident = self._ident = cursor.take(_IDENT_SIZE, "identification")
        elf_class, data = ident[4], ident[5]
        if elf_class not in {1, 2} or data not in {1, 2}:
            self._findings.add(
                "identification", say("formats.class-and-data-encoding-are-not", elf_class=elf_class, data=data)
            )
            return None
        self._bits, self._big_endian = 32 * elf_class, data == 2  # noqa: PLR2004 - ELFDATA2MSB
        self._layout = _LAYOUTS[">" if self._big_endian else "<", self._bits]
        header = ElfHeader(*cursor.unpack(self._layout.header, "header"))
        if header.version != 1:
            self._findings.add("ELF header", say("formats.version-is-not-1", version=header.version))
        return header

    def _check_sections(self, header: ElfHeader) -> None:
        """Check that the section headers and what they describe lie in the file: how a cut-off tail shows."""
        if header.sections_at == 0:
            return  # stripped of its section headers; the loader needs none
        record = self._layout.section
        if header.section_size != record.size:
            self._findings.add(
                say("formats.section-header-table"),
                say("formats.entry-size-is-not", section_size=header.section_size, size=record.size),
            )
            return
        count = header.section_count or self._section_zero(header)[5]  # gABI: 0 where it does not fit e_shnum
        if count > _MAX_SECTIONS:
            self._findings.add(say("formats.section-header-table"), say("formats.claims-sections", count=count))
            return
        table = list(Cursor(self._source, header.sections_at).table(record, count, "section header table"))
        if max([s[4] + s[5] for s in table[1:] if s[1] != _SHT_NOBITS], default=0) <= self._source.size:
            return  # as for nearly every file
        for index, (_, type_, _, _, offset, size, *_) in enumerate(table):
            if index and type_ != _SHT_NOBITS:
                self._findings.check_extent(say("formats.section-index", index=index), offset, size, self._source.size)

    def _section_zero(self, header: ElfHeader) -> tuple[Any, ...]:
        return Cursor(self._source, header.sections_at).unpack(self._layout.section, "section header 0")

    def _read_segments(self, header: ElfHeader) -> tuple[Segment, ...]:
        count = header.segment_count
        if count == 0:
            return ()
        record = self._layout.segment
        if header.segment_size != record.size:
            self._findings.add(
                say("formats.program-header-table"),
                say("formats.entry-size-is-not", section_size=header.segment_size, size=record.size),
            )
            return ()
        if count == _PN_XNUM and header.sections_at:
            count = self._section_zero(header)[7]
        if count > _MAX_SEGMENTS:
            self._findings.add(say("formats.program-header-table"), say("formats.claims-segments", count=count))
            return ()
        table = Cursor(self._source, header.segments_at).table(record, count, "program header table")
        if self._bits == 64:  # noqa: PLR2004 - in this class p_flags stands second
            segments = [Segment(kind, offset, at, size, memory) for kind, _, offset, at, _, size, memory, _ in table]
        else:
            segments = [Segment(kind, offset, at, size, memory) for kind, offset, at, _, size, memory, _, _ in table]
        for index, segment in enumerate(segments):
            if segment.type in _IN_FILE:
                self._check_segment(index, segment)
        return tuple(segments)

    def _check_segment(self, index: int, segment: Segment) -> None:
        fits = segment.offset + segment.file_size <= self._source.size
        if fits and (segment.file_size <= segment.memory_size or segment.type != _LOAD):
            return  # as for nearly every one
        place = say("formats.segment", name=index)
        if self._findings.check_extent(place, segment.offset, segment.file_size, self._source.size):
            reason = say(
                "formats.has-bytes-in-the-file-but", file_size=segment.file_size, memory_size=segment.memory_size
            )
            self._findings.add(place, reason)

    def _read_interpreter(self) -> str | None:
        for segment in self._segments:
            if segment.type == _INTERP:
                return Cursor(self._source, segment.offset).text("interpreter path")
        return None

    def _read_needed_levels(self) -> int:
        """The property of a note that names levels of instructions. Source: x86-64 psABI, "Program Property"."""
        place = next((s for s in self._segments if s.type == SegmentType.GNU_PROPERTY), None)
        data = self._source.read_at(place.offset, min(place.file_size, _LONGEST_NOTE)) if place is not None else b""
        order = "big" if self._big_endian else "little"
        at, step = 16, self._bits // 8  # behind the note's header and its name, "GNU"
        while at + 12 <= len(data):
            kind, size = (int.from_bytes(data[begin : begin + 4], order) for begin in (at, at + 4))  # type: ignore[arg-type]
            if kind == _ISA_1_NEEDED:
                return int.from_bytes(data[at + 8 : at + 12], order)  # type: ignore[arg-type]
            at += 8 + size + -size % max(step, 1)
        return 0

    def _read_dynamic(self) -> tuple[tuple[int, int], ...]:
        for segment in self._segments:
            if segment.type == _DYNAMIC:
                count = segment.file_size // self._layout.dynamic.size
                if count > _MAX_DYNAMIC:
                    self._findings.add("dynamic section", say("formats.claims-entries", count=count))
                    return ()
                table = Cursor(self._source, segment.offset).table(self._layout.dynamic, count, "dynamic section")
                # Up to DT_NULL, which is 0.
                return tuple([(tag & 0xFFFFFFFF, value) for tag, value in takewhile(itemgetter(0), table)])
        return ()

    def _read_names(self, names: dict[int, list[str]], values: dict[int, int]) -> None:
        """Look the named entries up in the dynamic string table, which is read once."""
        wanted = [(tag, value) for tag, value in self._dynamic if tag in names]
        if not wanted:
            return
        address, size = values.get(_STRTAB), values.get(_STRSZ, 0)
        offset = None if address is None else _offset_of(self._segments, address)
        if offset is None:
            self._findings.add("dynamic section", say("formats.its-string-table-dt-strtab-lies"))
            return
        # The names stand together somewhere in the table; a table of megabytes is not read for a few of them.
        places = [value for _, value in wanted]
        begin = min(size, *places)
        end = min(size, max(places) + _LONGEST_NAME)
        strings = Cursor(self._source, offset + begin).take(end - begin, say("formats.dynamic-string-table"))
        for tag, value in wanted:
            terminator = strings.find(b"\0", value - begin) if value < size else -1
            if terminator < 0:
                self._findings.add("dynamic section", say("formats.names-a-string-at-outside-its", value=value))
            else:
                names[tag].append(strings[value - begin : terminator].decode("utf-8", "surrogateescape"))


def _offset_of(segments: tuple[Segment, ...], address: int) -> int | None:
    for segment in segments:
        if segment.type == _LOAD and 0 <= address - segment.address < segment.file_size:
            return address - segment.address + segment.offset
    return None


def _kind(type_: int, interpreter: str | None, soname: str | None, *, is_pie: bool) -> BinaryKind:
    if type_ == ElfType.EXEC or (type_ == ElfType.DYN and (is_pie or (interpreter and not soname))):
        return BinaryKind.PROGRAM
    return _KINDS.get(type_, BinaryKind.OTHER)
