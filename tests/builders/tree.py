"""A folder with everything in it as it stands, to be compared."""

import os
import re
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any

_KEPT = re.compile(r"fundamen-kept-[0-9a-f]+")

Tree = dict[str, tuple[Any, ...]]


def tree_of(root: Path) -> Tree:
    """Content or link, mode, owner, times and attributes of every file, link and folder below one."""
    begin = len(str(root)) + 1
    return {path[begin:]: state_of(path) for path in _below(str(root))}


def _below(folder: str) -> Iterator[str]:
    with os.scandir(folder) as entries:
        for entry in entries:
            yield entry.path
            if entry.is_dir(follow_symlinks=False):
                yield from _below(entry.path)


def state_of(path: str) -> tuple[Any, ...]:
    """The same of one path."""
    status = os.lstat(path)
    owner = status.st_mode, status.st_uid, status.st_gid, status.st_mtime_ns
    if stat.S_ISLNK(status.st_mode):
        return (os.readlink(path), *owner, [])
    attributes = [(name, os.getxattr(path, name)) for name in os.listxattr(path, follow_symlinks=False)]
    if not stat.S_ISREG(status.st_mode):  # a folder's access time changes as it is looked at here
        return (None, *owner, attributes)
    with open(path, "rb", buffering=0) as file:
        content = file.read()
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
    return (content, *owner, status.st_atime_ns, attributes)


def without_times(tree: Tree) -> Tree:
    """The same without times, and without names that no one can guess: what is made again has its own."""
    return {_KEPT.sub("kept", path): (*state[:4], state[-1]) for path, state in tree.items()}
