"""A folder before and after somebody else has changed it: what differs, and how to bring back what was.

An installer changes what it likes. So all of its folder is kept beforehand, as a cold copy is, and compared afterwards.
Guarantee: what an installer has made is taken away only while it is as it made it; what nobody listed is set aside.
"""

import contextlib
import os
import shutil
import stat
from collections.abc import Iterable, Mapping

import msgspec

from fundamen.cold_copies.manifest import ColdCopy, CopiedEntry, Kind
from fundamen.model.paths import HostPath
from fundamen.placing.file_state import FileState, digest_of_file
from fundamen.placing.flushing import flush_all, flush_folder
from fundamen.placing.replacing import OURS, dress_folder, put, remove

Tree = dict[str, CopiedEntry]  # by the path from the folder on


class TreeChange(msgspec.Struct, frozen=True):
    """What differs, each path from the folder on."""

    added: tuple[str, ...]
    changed: tuple[str, ...]
    removed: tuple[str, ...]


def tree_of(entries: Iterable[CopiedEntry]) -> Tree:
    """Entries by their paths."""
    return {entry.path: entry for entry in entries}


def with_digests(folder: HostPath, entries: Iterable[CopiedEntry], known: Mapping[str, CopiedEntry]) -> Tree:
    """Entries with the digests of their files, each read; further names of a file are told as the known ones have them.

    Raises:
        OSError: one cannot be read.
    """
    tree: Tree = {}
    for entry in entries:
        path = os.path.join(folder, entry.path)
        digest = digest_of_file(path) if entry.kind is Kind.FILE else ""
        before = known.get(entry.path)
        state = msgspec.structs.replace(entry.state, sha256=digest)
        same_as = before.same_as if before is not None else ""
        tree[entry.path] = msgspec.structs.replace(entry, state=state, same_as=same_as)
    return tree


def compared(before: Tree, after: Tree) -> TreeChange:
    """What differs; times do not count."""
    both = before.keys() & after.keys()
    return TreeChange(
        added=tuple(sorted(after.keys() - before.keys())),
        changed=tuple(sorted(path for path in both if differs(before[path], after[path]))),
        removed=tuple(sorted(before.keys() - after.keys())),
    )


def differs(one: CopiedEntry, other: CopiedEntry) -> bool:
    """Whether content, kind, rights or owner differ."""
    return (one.kind, _plain(one.state)) != (other.kind, _plain(other.state))


def _plain(state: FileState) -> FileState:
    return msgspec.structs.replace(state, accessed_ns=0, modified_ns=0)


def keep_tree(folder: HostPath, entries: tuple[CopiedEntry, ...], archive: HostPath, copy: ColdCopy) -> ColdCopy:
    """Keep all of a folder in an archive, read back and compared. Raises: OSError."""
    from fundamen.cold_copies.archive import find_damage, write_archive  # noqa: PLC0415 - what packs archives is seldom needed

    kept, _, sha256, size = write_archive(archive, folder, entries, lambda _count: None)
    whole = msgspec.structs.replace(copy, entries=tuple(kept), archive_sha256=sha256, archive_size=size)
    if why := find_damage(archive, whole, lambda _count: None):
        raise OSError(0, f"read back, {why}", archive)
    return whole


def bring_back(
    folder: HostPath, copy: ColdCopy, archive: HostPath, now: Tree, ours: Tree | None, keeps: frozenset[str]
) -> None:
    """Make a folder as it was.

    Args:
        folder: where it stands.
        copy: what it was.
        archive: where the bytes lie.
        now: what it is.
        ours: what the installer has left, where that is known: of what is new only that is taken away.
        keeps: paths that somebody else puts right.

    Raises:
        DamagedFileError: the archive is damaged; nothing was changed.
        OSError: something could not be written; it can be done again.
    """
    before = tree_of(copy.entries)
    change = compared(before, now)
    wanted = [path for path in (*change.changed, *change.removed) if path not in keeps]
    spare = HostPath(f"{archive}.out")
    digests = {before[path].state.sha256 for path in wanted if before[path].kind is Kind.FILE}
    bring_out_all(archive, copy, {digest: HostPath(os.path.join(spare, digest)) for digest in digests})
    _take_away(folder, change.added, now, ours, keeps, copy.number)
    for path in sorted(wanted, key=lambda path: path.count("/")):
        _put_back(folder, before[path], spare)
    folders = [entry for entry in copy.entries if entry.kind is Kind.FOLDER]
    for entry in sorted(folders, key=lambda entry: entry.path.count("/") + bool(entry.path), reverse=True):
        with contextlib.suppress(FileNotFoundError):
            dress_folder(HostPath(os.path.join(folder, entry.path)), entry.state)
    flush_all(HostPath(os.path.join(folder, e.path)) for e in folders if os.path.isdir(os.path.join(folder, e.path)))
    shutil.rmtree(spare, ignore_errors=True)


def bring_out_all(archive: HostPath, copy: ColdCopy, wanted: Mapping[str, HostPath]) -> None:
    """Files of ours with the bytes of some digests, out of one pass. Raises: DamagedFileError, OSError."""
    from fundamen.cold_copies.archive import bring_out  # noqa: PLC0415 - what packs archives is seldom needed

    if wanted:
        bring_out(archive, copy, wanted)


def _put_back(folder: HostPath, entry: CopiedEntry, spare: HostPath) -> None:
    target = HostPath(os.path.join(folder, entry.path) if entry.path else folder)
    if entry.kind is Kind.FOLDER:
        if os.path.lexists(target) and not stat.S_ISDIR(os.lstat(target).st_mode):
            remove(target)
        os.makedirs(target, exist_ok=True)
        return
    if os.path.isdir(target) and not os.path.islink(target):
        os.rename(target, _free(target))  # somebody else's folder in the place of a file of ours stays, beside it
    staged = HostPath(os.path.join(os.path.dirname(target), f"{OURS}back"))
    put(HostPath(os.path.join(spare, entry.state.sha256)), target, staged, entry.state)


def _take_away(
    folder: HostPath, added: Iterable[str], now: Tree, ours: Tree | None, keeps: frozenset[str], number: int
) -> None:
    """Take away what is new: what the installer has made; if that is not known, it is set aside."""
    for path in sorted(added, key=lambda path: path.count("/"), reverse=True):
        target = HostPath(os.path.join(folder, path))
        if path in keeps or path.partition("/")[0].startswith(OURS):
            continue
        if ours is not None and (path not in ours or differs(ours[path], now[path])):
            continue  # somebody else's, or changed by somebody since
        if now[path].kind is Kind.FOLDER:
            with contextlib.suppress(OSError):  # something of somebody else's lies in it
                os.rmdir(target)
        elif ours is not None:
            remove(target)
        else:
            aside = os.path.join(folder, f"{OURS}left-{number}", path)
            os.makedirs(os.path.dirname(aside), exist_ok=True)
            os.rename(target, aside)
            flush_folder(os.path.dirname(aside))


def _free(path: str) -> str:
    number = 1
    while os.path.lexists(f"{path}.aside-{number}"):
        number += 1
    return f"{path}.aside-{number}"
