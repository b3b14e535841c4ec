"""Read one architecture's slice of a Mach-O file: its header and load commands, and whether what they name is there.

Source of the layouts: Apple's mach-o/loader.h and mach/machine.h.
"""

import struct
from collections.abc import Callable
from enum import IntEnum

import msgspec

from fundamen.formats.byte_source import ByteSource, MemoryBytes
from fundamen.formats.cursor import Cursor, StructureFindings, damage_error
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.display import printable

THIN_MAGICS = {  # the first four bytes -> byte order and register width
    b"\xfe\xed\xfa\xce": (">", 32),
    b"\xfe\xed\xfa\xcf": (">", 64),
    b"\xce\xfa\xed\xfe": ("<", 32),
    b"\xcf\xfa\xed\xfe": ("<", 64),
}
_MOST_COMMANDS = 20_000
_REQUIRED_TO_UNDERSTAND = 0x8000_0000  # LC_REQ_DYLD
_SUBTYPE = 0x00FF_FFFF  # without the capability bits of the highest byte
_TWO_LEVEL = 0x80  # MH_TWOLEVEL
_MARKS_USE_FLAGS = 0x1A74_1800  # in place of a time stamp: flags follow (loader.h, dylib_use_command)
MACOS, _IOS = 1, 2  # PLATFORM_*
SYMBOL_SIZES = {32: 12, 64: 16}  # bytes of one nlist record by register width
_USED_WEAKLY, _RE_EXPORTED, _UPWARD, _INITIALISED_LATE = 1, 2, 4, 8


class CpuType(IntEnum):
    """Values of a slice's cpu_type that are known here. Source: mach/machine.h, CPU_TYPE_*."""

    X86 = 7
    ARM = 12
    POWERPC = 18
    X86_64 = 0x0100_0007
    ARM64 = 0x0100_000C
    POWERPC64 = 0x0100_0012


ARM64E, X86_64_HASWELL = 2, 8  # subtypes of ARM64 and of X86_64


class FileType(IntEnum):
    """Values of the header's filetype that are used here."""

    OBJECT = 1
    EXECUTE = 2
    CORE = 4
    DYLIB = 6
    DYLINKER = 7
    BUNDLE = 8
    DYLIB_STUB = 9


class LoadCommand(IntEnum):
    """Load commands that are used here, without LC_REQ_DYLD."""

    SEGMENT = 0x1
    SYMTAB = 0x2
    LOAD_DYLIB = 0xC
    ID_DYLIB = 0xD
    LOAD_DYLINKER = 0xE
    LOAD_WEAK_DYLIB = 0x18
    SEGMENT_64 = 0x19
    RPATH = 0x1C
    CODE_SIGNATURE = 0x1D
    REEXPORT_DYLIB = 0x1F
    LAZY_LOAD_DYLIB = 0x20
    DYLD_INFO = 0x22
    LOAD_UPWARD_DYLIB = 0x23
    VERSION_MIN_MACOSX = 0x24
    VERSION_MIN_IPHONEOS = 0x25
    BUILD_VERSION = 0x32
    DYLD_EXPORTS_TRIE = 0x33
    CHAINED_FIXUPS = 0x34


_LOADING: dict[int, Necessity] = {
    LoadCommand.LOAD_DYLIB: Necessity.REQUIRED,
    LoadCommand.LOAD_WEAK_DYLIB: Necessity.OPTIONAL,
    LoadCommand.REEXPORT_DYLIB: Necessity.REQUIRED,
    LoadCommand.LAZY_LOAD_DYLIB: Necessity.DELAYED,
    LoadCommand.LOAD_UPWARD_DYLIB: Necessity.REQUIRED,
}


class Dylib(msgspec.Struct, frozen=True):
    """One library that a slice loads."""

    name: str  # the install name, or a path with ``@rpath`` and the like
    how: Necessity
    is_re_exported: bool
    is_upward: bool
    version: str  # the current version that it had at link time
    compatibility: str  # the compatibility version that it had then, and must have at least now


class Extent(msgspec.Struct, frozen=True):
    """A run of bytes."""

    offset: int  # bytes from the start of the slice
    size: int  # bytes


class MachSegment(msgspec.Struct, frozen=True):
    """One segment's name and place in the file."""

    name: str
    extent: Extent


class Symtab(msgspec.Struct, frozen=True):
    """Where the symbol table stands. Source: loader.h, struct symtab_command."""

    symbols_at: int  # bytes from the start of the slice
    count: int
    strings_at: int
    strings_size: int  # bytes


class Slice(msgspec.Struct, frozen=True, kw_only=True):
    """One architecture's part of a file; a thin file is a single slice."""

    architecture: Architecture
    cpu_type: int  # often a CpuType
    cpu_subtype: int  # without its capability bits
    offset: int  # bytes from the start of the file
    size: int  # bytes
    bits: int
    order: str  # "<" or ">"
    file_type: int  # often a FileType
    flags: int  # of the header, MH_*
    install_name: str | None = None
    version: str | None = None  # current version, of a library
    compatibility: str | None = None  # compatibility version, of a library
    dylibs: tuple[Dylib, ...] = ()  # in the order of the file, which is the order of library ordinals
    run_paths: tuple[str, ...] = ()
    dynamic_linker: str | None = None
    platform: int = 0  # LC_BUILD_VERSION's, 1 for macOS; 0 where the file does not say
    minimum_os: str | None = None
    sdk: str | None = None
    segments: tuple[MachSegment, ...] = ()
    symtab: Symtab | None = None
    exports_trie: Extent | None = None
    bindings: tuple[Extent, ...] = ()  # LC_DYLD_INFO's programs: what is bound at the start, and at the first call
    fixups: Extent | None = None  # LC_DYLD_CHAINED_FIXUPS
    signature: Extent | None = None

    @property
    def is_two_level(self) -> bool:
        """Whether each imported symbol names the library that it comes from."""
        return bool(self.flags & _TWO_LEVEL)

    @property
    def is_for_haswell(self) -> bool:
        """Whether only processors of x86_64 with AVX2 run it."""
        return self.cpu_type == CpuType.X86_64 and self.cpu_subtype == X86_64_HASWELL


class _Order(msgspec.Struct, frozen=True):
    """The records of one byte order."""

    header: struct.Struct  # behind the magic
    word: struct.Struct
    pair: struct.Struct
    four: struct.Struct
    ten: struct.Struct
    segment: struct.Struct
    segment_64: struct.Struct


def _order(order: str) -> _Order:
    return _Order(*(struct.Struct(order + record) for record in ("6I", "I", "II", "4I", "10I", "16s4I", "16s4Q")))


_ORDERS = {order: _order(order) for order in "<>"}

_ARCHITECTURES: dict[int, Architecture] = {
    CpuType.X86: Architecture.X86,
    CpuType.X86_64: Architecture.X86_64,
    CpuType.ARM: Architecture.ARM,
    CpuType.POWERPC: Architecture.PPC,
    CpuType.POWERPC64: Architecture.PPC64,
}


def architecture_of(cpu_type: int, cpu_subtype: int) -> Architecture:
    """The architecture that a CPU type and subtype name together."""
    if cpu_type == CpuType.ARM64:
        return Architecture.ARM64E if cpu_subtype & _SUBTYPE == ARM64E else Architecture.AARCH64
    return _ARCHITECTURES.get(cpu_type, Architecture.UNKNOWN)


def read_slice(source: ByteSource, offset: int, size: int, findings: StructureFindings) -> Slice:
    """Read the slice at a place of a file, and note its damage.

    Raises:
        DamagedFileError: it does not begin with a Mach-O header.
    """
    return _SliceReader(source, offset, size, findings).read()


_Reader = Callable[[int, bytes, Cursor], dict[str, object]]


class _SliceReader:
    """Reads one slice's load commands; a damaged command is reported, and the next one is read."""

    def __init__(self, source: ByteSource, offset: int, size: int, findings: StructureFindings) -> None:
        self._source = source
        self._findings = findings
        cursor = Cursor(source, offset)
        magic = cursor.take(4, "Mach-O header")
        if magic not in THIN_MAGICS:
            raise damage_error(
                printable(source.name), say("formats.begins-with-which-is-no-mach", magic=magic.hex(" "))
            )
        order, bits = THIN_MAGICS[magic]
        self._order = _ORDERS[order]
        cpu_type, cpu_subtype, file_type, count, commands_size, flags = cursor.unpack(
            self._order.header, "Mach-O header"
        )
        cursor.at += 4 if bits == 64 else 0  # noqa: PLR2004 - a reserved word
        self._cursor, self._count, self._commands_size = cursor, count, commands_size
        self._slice = Slice(
            architecture=architecture_of(cpu_type, cpu_subtype),
            cpu_type=cpu_type,
            cpu_subtype=cpu_subtype & _SUBTYPE,
            offset=offset,
            size=size,
            bits=bits,
            order=order,
            file_type=file_type,
            flags=flags,
        )
        self._readers: dict[int, _Reader] = {
            **dict.fromkeys(_LOADING, self._dylib),
            LoadCommand.SEGMENT: self._segment,
            LoadCommand.SEGMENT_64: self._segment,
            LoadCommand.ID_DYLIB: self._identification,
            LoadCommand.RPATH: self._run_path,
            LoadCommand.LOAD_DYLINKER: self._dynamic_linker,
            LoadCommand.SYMTAB: self._symtab,
            LoadCommand.DYLD_INFO: self._dyld_info,
            LoadCommand.CHAINED_FIXUPS: self._chained_fixups,
            LoadCommand.DYLD_EXPORTS_TRIE: self._exports,
            LoadCommand.CODE_SIGNATURE: self._signature,
            LoadCommand.BUILD_VERSION: self._build_version,
            LoadCommand.VERSION_MIN_MACOSX: self._minimum_version,
            LoadCommand.VERSION_MIN_IPHONEOS: self._minimum_version,
        }

    def read(self) -> Slice:
        at = 0
        commands = self._commands()
        for index in range(self._count if commands else 0):
            place = say("formats.load-command", index=index)
            if at + self._order.pair.size > len(commands):
                self._findings.add(place, say("formats.begins-at-byte-of-bytes-of", at=at, count=len(commands)))
                break
            number, length = self._order.pair.unpack_from(commands, at)
            if length < self._order.pair.size or length % 4 or at + length > len(commands):
                self._findings.add(
                    place, say("formats.claims-bytes-at-byte-of", length=length, at=at, count=len(commands))
                )
                break
            with self._findings.of(place):
                found = self._read_command(number & ~_REQUIRED_TO_UNDERSTAND, commands[at : at + length])
                self._slice = msgspec.structs.replace(self._slice, **found)
            at += length
        return self._slice

    def _commands(self) -> bytes:
        if self._count > _MOST_COMMANDS:
            self._findings.add("load commands", say("formats.there-are-said-to-be-of", count=self._count))
            return b""
        at = self._cursor.at - self._slice.offset
        if not self._check("load commands", Extent(at, self._commands_size)):
            return b""
        return self._cursor.take(self._commands_size, "load commands")

    def _read_command(self, number: int, data: bytes) -> dict[str, object]:
        """Read one load command into the fields of the slice."""
        reader = self._readers.get(number)
        cursor = Cursor(MemoryBytes(data, self._source.name), self._order.pair.size)
        return reader(number, data, cursor) if reader else {}

    def _identification(self, _: int, data: bytes, cursor: Cursor) -> dict[str, object]:
        name_at, _time, version, compatibility = cursor.unpack(self._order.four, "library identification")
        name = _text(data, name_at)
        return {
            "install_name": name,
            "version": _dotted_version(version),
            "compatibility": _dotted_version(compatibility),
        }

    def _run_path(self, _: int, data: bytes, cursor: Cursor) -> dict[str, object]:
        run_path = _text(data, cursor.unpack(self._order.word, "run path")[0])
        return {"run_paths": (*self._slice.run_paths, run_path)}

    def _dynamic_linker(self, _: int, data: bytes, cursor: Cursor) -> dict[str, object]:
        return {"dynamic_linker": _text(data, cursor.unpack(self._order.word, "dynamic linker")[0])}

    def _symtab(self, _: int, __: bytes, cursor: Cursor) -> dict[str, object]:
        symtab = Symtab(*cursor.unpack(self._order.four, "symbol table command"))
        self._check("symbol table", Extent(symtab.symbols_at, symtab.count * SYMBOL_SIZES[self._slice.bits]))
        self._check("symbol names", Extent(symtab.strings_at, symtab.strings_size))
        return {"symtab": symtab}

    def _exports(self, _: int, __: bytes, cursor: Cursor) -> dict[str, object]:
        return {
            "exports_trie": self._require_inside("exports", *cursor.unpack(self._order.pair, "place of the exports"))
        }

    def _dyld_info(self, _: int, __: bytes, cursor: Cursor) -> dict[str, object]:
        fields = cursor.unpack(self._order.ten, "dyld information")
        bound, _weakly, lazily, exports = (
            self._require_inside("bindings", *fields[at : at + 2]) for at in (2, 4, 6, 8)
        )
        return {"exports_trie": exports, "bindings": (bound, lazily)}

    def _chained_fixups(self, _: int, __: bytes, cursor: Cursor) -> dict[str, object]:
        return {"fixups": self._require_inside("fixups", *cursor.unpack(self._order.pair, "place of the fixups"))}

    def _signature(self, _: int, __: bytes, cursor: Cursor) -> dict[str, object]:
        return {
            "signature": self._require_inside("signature", *cursor.unpack(self._order.pair, "place of the signature"))
        }

    def _build_version(self, _: int, __: bytes, cursor: Cursor) -> dict[str, object]:
        platform, minimum, sdk, _tools = cursor.unpack(self._order.four, "build version")
        return _made_for(platform, minimum, sdk)

    def _minimum_version(self, number: int, _: bytes, cursor: Cursor) -> dict[str, object]:
        minimum, sdk = cursor.unpack(self._order.pair, "minimum version")
        platform = MACOS if number == LoadCommand.VERSION_MIN_MACOSX else _IOS
        return _made_for(platform, minimum, sdk)

    def _segment(self, number: int, _: bytes, cursor: Cursor) -> dict[str, object]:
        record = self._order.segment_64 if number == LoadCommand.SEGMENT_64 else self._order.segment
        raw, _address, memory_size, offset, size = cursor.unpack(record, "segment")
        name = raw.rstrip(b"\0").decode("utf-8", "surrogateescape")
        place = say("formats.segment", name=name)
        extent = self._require_inside(place, offset, size)
        if size > memory_size and self._slice.file_type != FileType.OBJECT:
            self._findings.add(place, say("formats.has-bytes-in-the-file-but", file_size=size, memory_size=memory_size))
        return {"segments": (*self._slice.segments, MachSegment(name, extent))}

    def _dylib(self, number: int, data: bytes, cursor: Cursor) -> dict[str, object]:
        name_at, time_stamp, version, compatibility = cursor.unpack(self._order.four, "library")
        flags = 0
        if time_stamp == _MARKS_USE_FLAGS and name_at > cursor.at:
            flags = cursor.unpack(self._order.word, "flags of a library's use")[0]
        how = _LOADING[number]
        if flags & (_USED_WEAKLY | _INITIALISED_LATE):
            how = Necessity.OPTIONAL if flags & _USED_WEAKLY else Necessity.DELAYED
        dylib = Dylib(
            name=_text(data, name_at),
            how=how,
            is_re_exported=number == LoadCommand.REEXPORT_DYLIB or bool(flags & _RE_EXPORTED),
            is_upward=number == LoadCommand.LOAD_UPWARD_DYLIB or bool(flags & _UPWARD),
            version=_dotted_version(version),
            compatibility=_dotted_version(compatibility),
        )
        return {"dylibs": (*self._slice.dylibs, dylib)}

    def _require_inside(self, place: str, offset: int, size: int) -> Extent:
        extent = Extent(offset, size)
        self._check(place, extent)
        return extent

    def _check(self, place: str, extent: Extent) -> bool:
        return self._findings.check_extent(place, extent.offset, extent.size, self._slice.size)


def _made_for(platform: int, minimum: int, sdk: int) -> dict[str, object]:
    """Which operating system a slice is made for; its versions are written without a last part of 0."""
    versions = {
        "minimum_os": _dotted_version(minimum).removesuffix(".0"),
        "sdk": _dotted_version(sdk).removesuffix(".0"),
    }
    return {"platform": platform, "minimum_os": versions["minimum_os"], "sdk": versions["sdk"] if sdk else None}


def _text(data: bytes, at: int) -> str:
    """The string at an offset from the start of its command, up to a NUL or the command's end. Source: union lc_str."""
    if not 8 <= at < len(data):  # noqa: PLR2004 - behind the command's own two words
        raise damage_error(
            say("formats.a-load-command"), say("formats.its-string-begins-at-byte-of", at=at, count=len(data))
        )
    return data[at:].partition(b"\0")[0].decode("utf-8", "surrogateescape")


def _dotted_version(version: int) -> str:
    """A version of three parts: 16, 8 and 8 bits."""
    return f"{version >> 16}.{version >> 8 & 0xFF}.{version & 0xFF}"
