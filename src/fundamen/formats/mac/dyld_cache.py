"""Read which libraries a dyld shared cache holds: those of macOS itself, which lie nowhere else on its disk.

Source of the layout: Apple's dyld, dyld_cache_format.h (struct dyld_cache_header, struct dyld_cache_image_info).
"""

import struct

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import Cursor, damage_error
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError

_MAGIC = b"dyld_v1"
_HEADER = struct.Struct("<16sIIII")  # magic; place and count of mappings; place and count of images, in old caches
_AT_IMAGES = 0x1C0  # imagesOffset, imagesCount, where the header reaches so far
_PAIR = struct.Struct("<II")
_IMAGE = struct.Struct("<QQQII")  # address, time, inode, place of the path, padding
_MOST_IMAGES = 100_000
_ARCHITECTURES = {
    "i386": Architecture.X86,
    "x86_64": Architecture.X86_64,
    "x86_64h": Architecture.X86_64,
    "arm64": Architecture.AARCH64,
    "arm64e": Architecture.ARM64E,
}


def read_dyld_cache(source: ByteSource) -> tuple[Architecture, frozenset[str]]:
    """For which architecture a cache is, and the paths of the libraries in it.

    Raises:
        DamagedFileError: the file is no such cache, or is cut short.
    """
    magic, mappings_at, _, at, count = Cursor(source).unpack(_HEADER, "header of the shared cache")
    name = magic[len(_MAGIC) :].strip(b"\0 ").decode("ascii", "replace")
    if not magic.startswith(_MAGIC) or name not in _ARCHITECTURES:
        raise _damaged_cache(source, say("formats.it-is-no-shared-cache-of"))
    if mappings_at > _AT_IMAGES:
        at, count = Cursor(source, _AT_IMAGES).unpack(_PAIR, "place of the images")
    if count > _MOST_IMAGES:
        raise _damaged_cache(source, say("formats.it-claims-libraries", count=count))
    images = Cursor(source, at).table(_IMAGE, count, "images")
    return _ARCHITECTURES[name], frozenset(Cursor(source, path_at).text("path", 1024) for *_, path_at, _ in images)


def _damaged_cache(source: ByteSource, why: str) -> DamagedFileError:
    return damage_error(say("formats.the-shared-cache", name=printable(source.name)), why)
