"""Find a resource in a PE file.

Source: Microsoft's PE Format specification, The .rsrc Section: three levels of directories, by type, name and language.
"""

import struct
from enum import IntEnum

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import damage_error
from fundamen.formats.windows.pe import DataDirectory, Pe, cursor_at
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_DIRECTORY = struct.Struct("<IIHHHH")  # characteristics, timestamp, two version words, named and numbered entries
_ENTRY = struct.Struct("<II")  # number or name, offset
_DATA = struct.Struct("<IIII")  # RVA, size, code page, reserved
_IS_DIRECTORY = 0x8000_0000
_LEVELS = 3
_MAX_ENTRIES = 4096
_MAX_SIZE = 4 << 20  # bytes of one resource


class ResourceType(IntEnum):
    """Numbers of resource types that are used here."""

    VERSION = 16
    MANIFEST = 24


def read_resource(source: ByteSource, pe: Pe, kind: ResourceType, number: int | None = None) -> bytes | None:
    """Read the first resource of a type, or the one with a number; None where the file has none.

    Raises:
        DamagedFileError: the resource tables do not fit the file.
    """
    if len(pe.directories) <= DataDirectory.RESOURCE or not pe.directories[DataDirectory.RESOURCE][0]:
        return None
    root = pe.directories[DataDirectory.RESOURCE][0]
    offset = 0
    for level, wanted in enumerate((kind, number, None)):
        cursor = cursor_at(source, pe, root + offset, "resource directory")
        *_, named, numbered = cursor.unpack(_DIRECTORY, "resource directory")
        if named + numbered > _MAX_ENTRIES:
            raise _damaged_resources(source, say("formats.a-resource-directory-claims-entries", named=named + numbered))
        entries = cursor.table(_ENTRY, named + numbered, "resource directory")
        found = next((at for name, at in entries if wanted is None or name == wanted), None)
        if found is None:
            return None
        is_directory, offset = bool(found & _IS_DIRECTORY), found & ~_IS_DIRECTORY
        if is_directory != (level < _LEVELS - 1):
            raise _damaged_resources(source, say("formats.its-resource-tree-has-not-three"))
    rva, size, _, _ = cursor_at(source, pe, root + offset, "resource data entry").unpack(_DATA, "resource data entry")
    if size > _MAX_SIZE:
        raise _damaged_resources(source, say("formats.a-resource-claims-bytes", size=size))
    return cursor_at(source, pe, rva, "resource").take(size, "resource")


def _damaged_resources(source: ByteSource, why: str) -> DamagedFileError:
    return damage_error(say("formats.the-resources-of", name=source.name), why)
