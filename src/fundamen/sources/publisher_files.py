"""Look at a file that a packager takes in: what it says of itself, and why it must not be taken in."""

import os
import re
from datetime import UTC, datetime

import msgspec

from fundamen.formats.pe import Pe
from fundamen.formats.pe_version import read_version
from fundamen.machine.file_bytes import FileBytes
from fundamen.model.binary import Binary
from fundamen.model.display import shown
from fundamen.model.errors import DamagedFileError
from fundamen.model.paths import HostPath

_OF_CODE = re.compile(r"\.(?:dll|exe|sys|ocx|pyd|dylib|so(?:\.\d+)*)$", re.IGNORECASE)
_LINKER_SCRIPT = re.compile(rb"\b(?:GROUP|INPUT|OUTPUT_FORMAT)\b")
_ANY_TIME = datetime(2020, 1, 1, tzinfo=UTC)  # whether somebody has changed a file does not depend on when one looks
_SHOWN = 24  # bytes of what is no library


class LookedAt(msgspec.Struct, frozen=True):
    """What was found of a file."""

    why_not: str = ""  # why it must not be taken in
    is_signed: bool = False  # whether a publisher has signed it, and nobody has changed it since
    version: str = ""  # of its product, as it states it


def look_at(path: HostPath, binary: Binary | None) -> LookedAt:
    """Look at a file. Raises: OSError."""
    with FileBytes(path, path) as source:
        if binary is None:
            head = source.read_at(0, 4096)
            if _OF_CODE.search(os.path.basename(path)) and not _LINKER_SCRIPT.search(head):
                begins = shown(head[:_SHOWN].decode("utf-8", "replace"))
                return LookedAt(f"it has the name of a library or program and is none; it begins with {begins!r}")
            return LookedAt()
        if binary.problems:
            return LookedAt(f"it is damaged: {binary.problems[0].place}: {binary.problems[0].reason}")
        version = ""
        if isinstance(binary, Pe):
            try:
                info = read_version(source, binary)
            except DamagedFileError:
                info = None
            version = (info.product_version or "") if info is not None else ""
        if not binary.may_be_signed:
            return LookedAt(version=version)
        from fundamen.model.trust_store import TrustStores  # noqa: PLC0415 - it loads the library of cryptography
        from fundamen.trust.chain import Issuers  # noqa: PLC0415
        from fundamen.trust.publisher import Standing  # noqa: PLC0415
        from fundamen.trust.signed_file import judge_file  # noqa: PLC0415

        publisher = judge_file(source, binary, Issuers(TrustStores()), _ANY_TIME)
        if publisher.verdict is Standing.TAMPERED:
            return LookedAt(f"its publisher's signature is broken: {publisher.reason}")
        return LookedAt(is_signed=publisher.verdict is not Standing.UNSIGNED, version=version)
