"""Read Mach-O files, thin and universal: which slices they hold, and what these have in common.

Source of the layouts: Apple's mach-o/fat.h.
"""

import struct

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, StructureFindings
from fundamen.formats.mac.macho_slice import THIN_MAGICS, FileType, Slice, read_slice
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, BinaryKind, Format, Need

_FAT_MAGIC, _FAT_MAGIC_64 = b"\xca\xfe\xba\xbe", b"\xca\xfe\xba\xbf"
_FAT_HEADER, _FAT_ARCH, _FAT_ARCH_64 = struct.Struct(">4sI"), struct.Struct(">5I"), struct.Struct(">IIQQII")
_MOST_SLICES = 42  # a class file, which begins with the same four bytes, has its version here: 45 or more


class MachO(Binary, frozen=True, kw_only=True):
    """One Mach-O file: what every binary has, taken from its first slice, and all its slices."""

    slices: tuple[Slice, ...]

    def slice_for(self, architecture: Architecture) -> Slice | None:
        """The slice that a process of an architecture takes: of two, the one for the newer processors."""
        fitting = [each for each in self.slices if each.architecture is architecture]
        return max(fitting, key=lambda each: each.is_for_haswell) if fitting else None


def is_universal(head: bytes) -> bool:
    """Whether eight bytes begin a universal file; a Java class file begins with the same four."""
    count = int.from_bytes(head[4:8], "big")
    return head[:4] == _FAT_MAGIC_64 or (
        head[:4] == _FAT_MAGIC and len(head) == _FAT_HEADER.size and count <= _MOST_SLICES
    )


def read_macho(source: ByteSource) -> MachO:
    """Read a Mach-O file. Damage is reported in ``problems``; nothing is raised for it."""
    findings = StructureFindings()
    slices: list[Slice] = []
    extents = [(0, source.size)]
    if source.read_at(0, 4) not in THIN_MAGICS:
        extents = []
        with findings.of("universal header"):
            extents = _read_fat(source, findings)
    for offset, size in extents:
        with findings.of(say("formats.slice-at", offset=offset) if offset else "Mach-O header"):
            slices.append(read_slice(source, offset, size, findings))
    return _record(source, tuple(slices), findings)


def _record(source: ByteSource, slices: tuple[Slice, ...], findings: StructureFindings) -> MachO:
    needs: dict[str, Need] = {}
    for each in slices:
        for dylib in each.dylibs:
            needs.setdefault(dylib.name, Need(dylib.name, dylib.how))
    first = slices[0] if slices else None
    architectures = tuple(dict.fromkeys(each.architecture for each in slices)) or (Architecture.UNKNOWN,)
    return MachO(
        format=Format.MACHO,
        kind=_KINDS.get(first.file_type, BinaryKind.OTHER) if first else BinaryKind.OTHER,
        architecture=architectures[0],
        also_for=architectures[1:],
        name=first.install_name if first else None,
        needs=tuple(needs.values()),
        problems=findings.all_problems(),
        size=source.size,
        slices=slices,
    )


_KINDS: dict[int, BinaryKind] = {
    FileType.OBJECT: BinaryKind.OBJECT,
    FileType.EXECUTE: BinaryKind.PROGRAM,
    FileType.CORE: BinaryKind.CORE_DUMP,
    FileType.DYLIB: BinaryKind.LIBRARY,
    FileType.BUNDLE: BinaryKind.LIBRARY,
    FileType.DYLIB_STUB: BinaryKind.LIBRARY,
}


def _read_fat(source: ByteSource, findings: StructureFindings) -> list[tuple[int, int]]:
    """The places of a universal file's slices. Source: fat.h."""
    cursor = Cursor(source)
    magic, count = cursor.unpack(_FAT_HEADER, "universal header")
    if count > _MOST_SLICES:
        findings.add("universal header", say("formats.claims-slices", count=count))
        return []
    record = _FAT_ARCH if magic == _FAT_MAGIC else _FAT_ARCH_64
    extents = []
    for _, _, offset, size, *_ in cursor.table(record, count, "table of slices"):
        findings.check_extent(say("formats.slice-at", offset=offset), offset, size, source.size)
        if offset < cursor.at:
            findings.add(say("formats.slice-at", offset=offset), say("formats.lies-over-the-universal-header"))
        elif offset < source.size:
            extents.append((offset, min(size, source.size - offset)))
    if not extents and not findings.all_problems():
        findings.add("universal header", say("formats.holds-no-slices"))
    return extents
