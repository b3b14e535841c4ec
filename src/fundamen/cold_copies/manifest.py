"""Read and write the list of a cold copy's entries, which lies beside its archive (docs/formats/cold-copy.md).

Words: an *entry* is a file, a folder or a link below the folder that was copied; its *path* counts from that folder,
with slashes, and the folder itself is the entry with the empty path.
"""

from datetime import datetime
from enum import StrEnum
from typing import Annotated, Literal

import msgspec

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json
from fundamen.model.errors import DamagedFileError
from fundamen.model.package import Sha256
from fundamen.model.paths import MachinePath
from fundamen.placing.file_state import FileState

SCHEMA = "fundamen.cold-copy/1"


class CopiedKind(StrEnum):
    """Kinds of entries."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"


class CopiedEntry(msgspec.Struct, frozen=True, omit_defaults=True):
    """One entry as it stood."""

    path: str
    kind: CopiedKind
    state: FileState  # of a folder only mode, owner and times
    same_as: str = ""  # of a file with several names: the path of the first, under which its bytes lie


class SkippedEntry(msgspec.Struct, frozen=True):
    """An entry that is not in a copy, and the reason."""

    path: str
    why: str


class ColdCopy(msgspec.Struct, frozen=True, kw_only=True):
    """One cold copy."""

    schema: Literal["fundamen.cold-copy/1"] = "fundamen.cold-copy/1"
    number: Annotated[int, msgspec.Meta(ge=1)]
    machine: str  # for people
    folder: MachinePath
    taken_at: datetime
    because: str
    entries: tuple[CopiedEntry, ...]
    left_out: tuple[SkippedEntry, ...]
    unquiet: tuple[str, ...]  # files that changed while they were copied; only where it was forced
    archive_sha256: Sha256
    archive_size: Annotated[int, msgspec.Meta(ge=0)]  # bytes

    @property
    def file_count(self) -> int:
        """How many files it holds."""
        return sum(entry.kind is CopiedKind.FILE for entry in self.entries)

    @property
    def link_count(self) -> int:
        """How many symbolic links it holds."""
        return sum(entry.kind is CopiedKind.LINK for entry in self.entries)

    @property
    def size(self) -> int:
        """How many bytes its files have."""
        return sum(entry.state.size for entry in self.entries if not entry.same_as)


def read_manifest(data: bytes, name: str) -> ColdCopy:
    """Read the list of a cold copy.

    Raises:
        DamagedFileError: it is none, from a newer version, or names a path that leads elsewhere.
    """
    try:
        copy = msgspec.json.decode(data, type=ColdCopy)
    except (msgspec.DecodeError, ValueError, RecursionError) as error:
        raise _unusable(name, say("cold_copies.it-is-none-of-the-form", schema=SCHEMA, error=error)) from error
    seen: set[str] = set()
    for entry in copy.entries:
        parts = entry.path.split("/")
        if entry.path and ({"", ".", ".."} & set(parts) or "\0" in entry.path):
            raise _unusable(name, say("cold_copies.its-path-leads-elsewhere", path=printable(entry.path)))
        is_known = entry.same_as in seen if entry.same_as else entry.path not in seen
        if entry.path in seen or not is_known or (parts[:-1] and "/".join(parts[:-1]) not in seen):
            raise _unusable(name, say("cold_copies.its-path-is-in-an-impossible", path=printable(entry.path)))
        seen.add(entry.path)
    return copy


def manifest_bytes(copy: ColdCopy) -> bytes:
    """The list's bytes, to be read by people as well."""
    return msgspec.json.format(encode_json(copy), indent=1) + b"\n"


def _unusable(name: str, why: str) -> DamagedFileError:
    return DamagedFileError(
        what=say("cold_copies.the-cold-copy-cannot-be-used", name=printable(name)),
        why=why,
        do=say("cold_copies.its-archive-can-still-be-unpacked"),
    )
