"""Know the parts of macOS: its version, the libraries of its shared cache, its processors.

Since macOS 11 the system's own libraries lie in the shared cache and nowhere else on the disk. Source: Apple's notes on
macOS Big Sur 11.0.1, "Kernel", and the dyld sources (dyld_cache_format.h) for the cache's names.
"""

import contextlib
import re

import msgspec

from fundamen.formats.mac.dyld_cache import read_dyld_cache
from fundamen.formats.mac.property_list import read_property_list
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SYSTEM_VERSION = MachinePath("/System/Library/CoreServices/SystemVersion.plist")
_VERSION = re.compile(r"\d{1,4}(\.\d{1,4}){0,3}", re.ASCII)
_MOST_BYTES = 1 << 20
_CACHE_FOLDERS = (
    "/System/Library/dyld",
    "/System/Cryptexes/OS/System/Library/dyld",
    "/System/Volumes/Preboot/Cryptexes/OS/System/Library/dyld",
    "/private/var/db/dyld",
)
_CACHES = ("arm64e", "arm64", "x86_64h", "x86_64", "i386")
_OWN_FOLDERS = ("/usr/lib/", "/System/Library/", "/System/iOSSupport/", "/System/DriverKit/")
_TRANSLATOR = MachinePath("/Library/Apple/usr/libexec/oah")
_WITHOUT_FILES = (11,)  # from this version on the cache's libraries have no files of their own
_ONLY_WIDE = (10, 15)  # from this version on no 32-bit program runs


class MacSystem(msgspec.Struct, frozen=True):
    """The system on a machine, as far as its disk shows."""

    version: tuple[int, ...]  # empty where it is not known
    cached: dict[Architecture, frozenset[str]]  # the libraries of each shared cache that is available
    translates: bool  # whether an Apple silicon machine runs programs for x86_64

    def runs(self) -> tuple[Architecture, ...]:
        """For which architectures it runs programs, the best first; all where the disk does not tell its processor."""
        arm, intel = (Architecture.AARCH64, Architecture.ARM64E), (Architecture.X86_64,)
        narrow = () if self.version >= _ONLY_WIDE else (Architecture.X86,)
        if any(each in self.cached for each in arm):
            return (*arm, *intel) if self.translates else arm
        if Architecture.X86_64 in self.cached:
            return (*intel, *narrow)
        return (*arm, *intel, *narrow)

    def says_of(self, path: str, architecture: Architecture) -> Message:
        """Why the system has a library that is at no place of its disk; empty where it has none of that path."""
        wanted = Architecture.ARM64E if architecture is Architecture.AARCH64 else architecture  # its code serves both
        cached = self.cached.get(wanted, self.cached.get(architecture))
        if cached is not None:
            return say("loaders.is-part-of-macos-in-its") if path in cached else UNSAID
        has_files = self.version and self.version < _WITHOUT_FILES
        if has_files or not path.startswith(_OWN_FOLDERS):
            return UNSAID
        return say("loaders.would-be-part-of-macos-in")


def find_system(machine: Machine) -> MacSystem:
    """Find out what the system on a machine is."""
    cached: dict[Architecture, frozenset[str]] = {}
    for folder in _CACHE_FOLDERS:
        for name in _CACHES:
            path = machine.join(folder, f"dyld_shared_cache_{name}")
            if machine.look(path).kind is EntryKind.FILE:
                with contextlib.suppress(UnreadableError), machine.open(path) as source:
                    architecture, libraries = read_dyld_cache(source)
                    cached.setdefault(architecture, libraries)
    return MacSystem(_version(machine), cached, machine.look(_TRANSLATOR).kind is EntryKind.FOLDER)


def _version(machine: Machine) -> tuple[int, ...]:
    """The version of macOS, such as (14, 2, 1); empty where its own file does not say."""
    try:
        values = read_property_list(machine.content(_SYSTEM_VERSION, _MOST_BYTES), say("loaders.version-of-macos"))
    except UnreadableError:
        return ()
    text = str(values.get("ProductVersion", ""))
    return tuple(map(int, text.split("."))) if _VERSION.fullmatch(text) else ()
