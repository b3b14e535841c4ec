"""The contract of ``locks check`` and ``locks refresh`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.formats.lock_file import LockFile
from fundamen.messages import Message
from fundamen.sources.locks import CheckedPin, nearest


class LockEntryPart(msgspec.Struct, frozen=True):
    """One entry of a lock file."""

    name: str
    version: str
    state: str
    detail: Message | None
    path: str | None  # of the file that lies there
    builds: tuple[str, ...]  # where the version has no build for the processor: those that have one
    nearest: str | None  # of these


class LockRecord(msgspec.Struct, frozen=True):
    """A lock file, checked."""

    path: str
    kind: str
    faults: int
    number: int | None  # of the restoration, where an entry was refreshed
    entries: tuple[LockEntryPart, ...]
    schema: Literal["fundamen.lock/2"] = "fundamen.lock/2"


def lock_record(path: str, lock: LockFile, checked: tuple[CheckedPin, ...], number: int | None = None) -> LockRecord:
    """The contract's form of a checked lock file."""
    return LockRecord(
        path=path,
        kind=lock.kind,
        faults=sum(each.is_at_fault for each in checked),
        number=number,
        entries=tuple(
            LockEntryPart(
                each.entry.name,
                each.entry.version,
                each.state,
                each.detail,
                each.artefact.path if each.artefact is not None else None,
                each.builds,
                nearest(each),
            )
            for each in checked
        ),
    )
