"""Find changes for the worse that another publisher's installer has made to a machine."""

import os
from collections.abc import Iterator, Mapping, Sequence

from fundamen.changes.tree_change import TreeChange
from fundamen.formats.binary import read_binary
from fundamen.formats.decimal import read_decimal
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_version import read_version
from fundamen.formats.windows.text_hive import ChangedValue
from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.installed import ServiceStart
from fundamen.messages import Message, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath

_MOST_FILES = 2000
_LISTS = {"path", "pathext", "psmodulepath"}
_OF_THE_ENVIRONMENT = "\\environment"
_SERVICES = "\\services\\"
_SEPARATOR = ";"


def find_worse(
    prefix: HostPath, change: TreeChange, values: Sequence[ChangedValue], kept: Mapping[str, HostPath]
) -> tuple[str, ...]:
    """Changes for the worse, in words.

    Args:
        prefix: the prefix's folder, as it is now.
        change: what differs in it.
        values: what differs in its registry.
        kept: our own copies of the files that changed, as they were, by the path in the prefix.

    Raises:
        OSError: a file cannot be read.
    """
    return (
        *(found for value in values for found in _of_value(value)),
        *(found for path in change.changed[:_MOST_FILES] for found in _of_file(prefix, path, kept)),
        *(say("changes.was-there-and-is-gone", path=path) for path in change.removed[:_MOST_FILES] if _matters(path)),
    )


def _of_value(changed: ChangedValue) -> Iterator[str]:
    old = changed.old.content if changed.old is not None else None
    new = changed.new.content if changed.new is not None else None
    key = changed.key.lower()
    if key.endswith(_OF_THE_ENVIRONMENT) and changed.name.lower() in _LISTS:
        yield from _of_list(changed.name, old, new)
    if _SERVICES in key and changed.name.lower() == "start" and isinstance(old, int):
        service = changed.key.rpartition("\\")[2]
        if new == ServiceStart.DISABLED and old < ServiceStart.DISABLED:
            yield say("changes.the-service-was-started-before-and", service=service)


def _of_list(name: str, old: object, new: object) -> Iterator[Message]:
    before = str(old).split(_SEPARATOR) if isinstance(old, str) else []
    after = str(new).split(_SEPARATOR) if isinstance(new, str) else []
    known = {_fold_entry(entry) for entry in after}
    lost = [entry for entry in before if entry and _fold_entry(entry) not in known]
    if lost:
        yield say("changes.has-lost", name=name, lost=", ".join(lost))
    doubled = {
        _fold_entry(entry) for entry in after if entry and [_fold_entry(e) for e in after].count(_fold_entry(entry)) > 1
    }
    if doubled - {
        _fold_entry(entry) for entry in before if [_fold_entry(e) for e in before].count(_fold_entry(entry)) > 1
    }:
        yield say("changes.has-more-than-once", name=name, doubled=", ".join(sorted(doubled)))


def _fold_entry(entry: str) -> str:
    return entry.strip().rstrip("\\/").lower()


def _of_file(prefix: HostPath, path: str, kept: Mapping[str, HostPath]) -> Iterator[Message]:
    if not _matters(path):
        return
    host = HostPath(os.path.join(prefix, path))
    if path not in kept or os.path.islink(host) or not os.path.isfile(host):
        return
    before, after = _facts(kept[path]), _facts(host)
    if before is None or after is None:
        if before is not None:
            yield say("changes.was-an-executable-file-and-is", path=path)
        return
    if before[0] != after[0]:
        yield say("changes.was-for-and-is-for", path=path, before=before[0], after=after[0])
    elif after[1] < before[1]:
        old, new = (".".join(map(str, each[1])) for each in (before, after))
        yield say("changes.had-the-version-and-has-the", path=path, old=old, new=new)


def _facts(host: HostPath) -> tuple[str, tuple[int, ...]] | None:
    """(the architecture, the version) of an image; None where it is none. Raises: OSError."""
    with FileBytes(host, host) as source:
        try:
            binary = read_binary(source)
            version = read_version(source, binary) if isinstance(binary, Pe) else None
        except UnreadableError:
            return None
    text = version.file_version if version is not None else None
    parts = [read_decimal(part) for part in (text or "").split(".")]
    return str(binary.architecture), tuple(part for part in parts if part is not None)


def _matters(path: str) -> bool:
    return path.lower().endswith((".dll", ".exe", ".sys", ".ocx", ".drv", ".cpl"))
