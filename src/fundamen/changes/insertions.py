"""Things that are put into a file which others write to as well: they are found and taken out again one by one.

To undo such a change is not to bring the old file back, if the system has written it again meanwhile, but to take out
of it what was put in, and nothing else.
"""

import base64
import re
from enum import StrEnum

import msgspec

from fundamen.formats.windows import hive, hive_cells, text_hive
from fundamen.formats.windows.registry_value import read_written
from fundamen.formats.windows.text_hive import without_key

_BLOCK = re.compile(rb"-----BEGIN CERTIFICATE-----(.*?)-----END CERTIFICATE-----\r?\n?", re.DOTALL)


class InsertionKind(StrEnum):
    """Kinds of insertions."""

    CERTIFICATE = "certificate"  # into a bundle in PEM; named by its base64
    REGISTRY_KEY = "registry key"  # into a hive, in text form or not; named by its path
    REGISTRY_VALUE = "registry value"  # likewise; named by the path of its key


class Insertion(msgspec.Struct, frozen=True):
    """One thing that was put into a file."""

    kind: InsertionKind
    name: str
    value: str = ""  # of a registry value: its name
    new: str | None = None  # what was written, in the text form; None: it was taken out
    old: str | None = None  # what was there before; None: nothing
    earlier: "Insertion | None" = None  # what was put into the same file before it


def without(data: bytes, insertion: Insertion) -> bytes:
    """A file's bytes without what was put in; the same bytes where it is not in them any more."""
    data = _without_one(data, insertion)
    return without(data, insertion.earlier) if insertion.earlier is not None else data


def _without_one(data: bytes, insertion: Insertion) -> bytes:
    if insertion.kind is InsertionKind.REGISTRY_VALUE:
        return _with_old_value(data, insertion)
    if insertion.kind is InsertionKind.REGISTRY_KEY and data.startswith(hive_cells.MAGIC):
        return hive.without_key(data, insertion.name)
    if insertion.kind is InsertionKind.REGISTRY_KEY:
        return without_key(data, insertion.name)
    for block in _BLOCK.finditer(data):
        if b"".join(block[1].split()) == insertion.name.encode():
            return data[: block.start()] + data[block.end() :]
    return data


def _with_old_value(data: bytes, insertion: Insertion) -> bytes:
    """The hive with the value as it was, if what was written is still there."""
    is_text = not data.startswith(hive_cells.MAGIC)
    find = text_hive.find_value if is_text else hive_cells.find_value
    found = find(data, insertion.name, insertion.value)
    if (found.as_text() if found is not None else None) != insertion.new:
        return data
    old = read_written(insertion.old) if insertion.old is not None else None
    if is_text:
        return text_hive.with_value(data, insertion.name, insertion.value, old, 0)
    if old is None:
        return hive.without_value(data, insertion.name, insertion.value)
    return hive.with_values(data, insertion.name, {insertion.value: old}, None)


def certificate_block(der: bytes) -> tuple[bytes, Insertion]:
    """(a certificate in PEM, how it is found again)."""
    text = base64.b64encode(der).decode()
    lines = "\n".join(text[at : at + 64] for at in range(0, len(text), 64))
    block = f"-----BEGIN CERTIFICATE-----\n{lines}\n-----END CERTIFICATE-----\n"
    return block.encode(), Insertion(InsertionKind.CERTIFICATE, text)
