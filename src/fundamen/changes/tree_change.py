"""A folder before and after someone else has changed it: what differs, and how to bring back what was.

An installer changes what it likes. So all of its folder is kept beforehand, as a cold copy is, and compared afterwards.
Guarantee: what an installer has made is taken away only while it is as it made it; what no one listed is set aside.
"""

import contextlib
import os
import shutil
from collections.abc import Iterable, Mapping

import msgspec

from fundamen.cold_copies.manifest import ColdCopy, CopiedEntry, CopiedKind
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.paths import HostPath
from fundamen.placing.calls import make_folder, move, remove_folder
from fundamen.placing.file_state import FileState, digest_of_place
from fundamen.placing.flushing import flush_all
from fundamen.placing.replacing import OURS, dress_folder, name_of_ours, put, remove

Tree = dict[str, CopiedEntry]  # by the path from the folder on


class TreeChange(msgspec.Struct, frozen=True):
    """Differences of two trees, each path from the folder on."""

    added: tuple[str, ...]
    changed: tuple[str, ...]
    removed: tuple[str, ...]


def tree_of(entries: Iterable[CopiedEntry]) -> Tree:
    """Entries by their paths."""
    return {entry.path: entry for entry in entries}


def with_digests(folder: Place, entries: Iterable[CopiedEntry], known: Mapping[str, CopiedEntry]) -> Tree:
    """Entries with the digests of their files, each read; further names of a file get the known one's digest.

    Raises:
        OSError: one cannot be read.
    """
    tree: Tree = {}
    for entry in entries:
        digest = digest_of_place(folder.below(entry.path)) if entry.kind is CopiedKind.FILE else ""
        before = known.get(entry.path)
        state = msgspec.structs.replace(entry.state, sha256=digest)
        same_as = before.same_as if before is not None else ""
        tree[entry.path] = msgspec.structs.replace(entry, state=state, same_as=same_as)
    return tree


def compare_listings(before: Tree, after: Tree) -> TreeChange:
    """Differences of two trees; times do not count."""
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


def keep_tree(folder: Place, entries: tuple[CopiedEntry, ...], archive: HostPath, copy: ColdCopy) -> ColdCopy:
    """Keep all of a folder in an archive, read back and compared. Raises: OSError."""
    from fundamen.cold_copies.archive import find_damage, write_archive  # noqa: PLC0415 - what packs archives is seldom needed

    kept, _, sha256, size = write_archive(archive, folder, entries, lambda _count: None)
    whole = msgspec.structs.replace(copy, entries=tuple(kept), archive_sha256=sha256, archive_size=size)
    if why := find_damage(archive, whole, lambda _count: None):
        raise OSError(0, say("changes.read-back", why=why), archive)
    return whole


def bring_back(
    folder: Place, copy: ColdCopy, archive: HostPath, now: Tree, ours: Tree | None, keeps: frozenset[str]
) -> None:
    """Make a folder as it was.

    Args:
        folder: where it stands.
        copy: what it was.
        archive: where the bytes lie.
        now: what it is.
        ours: what the installer has left, where that is known: of what is new only that is taken away.
        keeps: paths that another step repairs.

    Raises:
        DamagedFileError: the archive is damaged; nothing was changed.
        OSError: something could not be written; it can be done again.
    """
    before = tree_of(copy.entries)
    change = compare_listings(before, now)
    wanted = [path for path in (*change.changed, *change.removed) if path not in keeps]
    spare = HostPath(f"{archive}.out")
    digests = {before[path].state.sha256 for path in wanted if before[path].kind is CopiedKind.FILE}
    bring_out_all(archive, copy, {digest: HostPath(os.path.join(spare, digest)) for digest in digests})
    _take_away(folder, change.added, now, ours, keeps, copy.number)
    for path in sorted(wanted, key=lambda path: path.count("/")):
        _put_back(folder, before[path], spare)
    folders = [entry for entry in copy.entries if entry.kind is CopiedKind.FOLDER]
    for entry in sorted(folders, key=lambda entry: entry.path.count("/") + bool(entry.path), reverse=True):
        with contextlib.suppress(FileNotFoundError):
            dress_folder(folder.below(entry.path), entry.state)
    flush_all(place for place in (folder.below(entry.path) for entry in folders) if place.is_folder)
    shutil.rmtree(spare, ignore_errors=True)


def bring_out_all(archive: HostPath, copy: ColdCopy, wanted: Mapping[str, HostPath]) -> None:
    """Files of ours with the bytes of some digests, out of one pass. Raises: DamagedFileError, OSError."""
    from fundamen.cold_copies.archive import bring_out  # noqa: PLC0415 - what packs archives is seldom needed

    if wanted:
        bring_out(archive, copy, wanted)


def _put_back(folder: Place, entry: CopiedEntry, spare: HostPath) -> None:
    target = folder.below(entry.path)
    if entry.kind is CopiedKind.FOLDER:
        if target.is_there and not target.is_folder:
            remove(target)
        if not target.is_there:
            make_folder(target)
        return
    if target.is_folder:
        move(target, _free(target))  # someone else's folder in the place of a file of ours stays, beside it
    put(HostPath(os.path.join(spare, entry.state.sha256)), target, target.beside(name_of_ours()), entry.state)


def _take_away(
    folder: Place, added: Iterable[str], now: Tree, ours: Tree | None, keeps: frozenset[str], number: int
) -> None:
    """Take away what is new: what the installer has made; if that is not known, it is set aside."""
    for path in sorted(added, key=lambda path: path.count("/"), reverse=True):
        target = folder.below(path)
        if path in keeps or path.partition("/")[0].startswith(OURS):
            continue
        if ours is not None and (path not in ours or differs(ours[path], now[path])):
            continue  # someone else's, or changed by someone since
        if now[path].kind is CopiedKind.FOLDER:
            with contextlib.suppress(OSError):  # something of someone else's lies in it
                remove_folder(target)
        elif ours is not None:
            remove(target)
        else:
            aside = folder.below(f"{OURS}left-{number}/{path}")
            _make_folders(folder, aside.folder)
            move(target, aside)
            aside.folder.flush()


def _make_folders(top: Place, folder: Place) -> None:
    if folder != top and not folder.is_folder:
        _make_folders(top, folder.folder)
        make_folder(folder)


def _free(place: Place) -> Place:
    number = 1
    while (free := place.beside(f"{place.name}.aside-{number}")).is_there:
        number += 1
    return free
