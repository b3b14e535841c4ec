"""A disk that drops what was not flushed: what would be found on it, had the power gone at any of a program's calls.

It is played back from the log of the shim. The model is strict: a file has the bytes, mode, owner, times and attributes
that it had when it was last flushed, a folder the names that it had when *it* was; a name that was flushed without its
file leads to an empty one. The laxer ``names_kept`` keeps all names and drops bytes, as file systems do that write
names first.
"""

import os
import shutil
import stat
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple


class Dress(NamedTuple):
    """Everything that a file or folder has besides its bytes."""

    mode: int
    uid: int
    gid: int
    accessed_ns: int
    modified_ns: int


class Node:
    """A file, folder or link: as it is in memory, and as it is on the disk."""

    def __init__(self, dress: Dress, number: int, target: str = "") -> None:
        self.number, self.target = number, target  # its inode; of a link: where it leads
        self.dress = self.flushed_dress = dress
        self.attributes: dict[str, bytes] = {}
        self.data = self.flushed_data = b""
        self.names: dict[str, Node] = {}
        self.flushed_names: dict[str, Node] = {}
        self.flushed_attributes: dict[str, bytes] = {}

    def flush(self) -> None:
        self.flushed_dress, self.flushed_data = self.dress, self.data
        self.flushed_names, self.flushed_attributes = dict(self.names), dict(self.attributes)
        for child in self.names.values():
            if child.target:  # no link can be flushed by itself: it goes with its folder
                child.flushed_dress = child.dress

    def touch(self, name: str) -> None:
        """It got another name in it, at the time that goes with it."""
        self.dress = self.dress._replace(modified_ns=int(name.partition(":")[2]))


class Disk:
    """Some folders of this host and all below them, and what a program does to them."""

    def __init__(self, tops: Sequence[Path]) -> None:
        self._numbers: dict[int, Node] = {}
        self._tops = {str(top): self._read(top) for top in tops}

    def _read(self, path: Path) -> Node:
        status = path.lstat()
        if status.st_ino in self._numbers:
            return self._numbers[status.st_ino]
        owner = status.st_mode, status.st_uid, status.st_gid
        node = Node(Dress(*owner, status.st_atime_ns, status.st_mtime_ns), status.st_ino)
        self._numbers[status.st_ino] = node
        if path.is_symlink():
            node.target = os.readlink(path)
        elif path.is_dir():
            node.names = {child.name: self._read(child) for child in sorted(path.iterdir())}
        else:
            node.data = path.read_bytes()
            os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
            node.attributes = {name: os.getxattr(path, name) for name in os.listxattr(path)}
        node.flush()
        return node

    def play(self, log: Path) -> Iterator[str]:
        """Do what a log says, change by change; each is named once it is done."""
        for line in log.read_text().splitlines():
            verb, *fields = line.split(" ")
            if self._do(verb, fields):
                yield verb

    def _do(self, verb: str, fields: list[str]) -> bool:
        """Do one change; False where it is none of these folders' affair."""
        match verb:
            case "rename" | "link":
                old, new = (_text(field) for field in fields)
                if (node := self._find(old)) is None or (place := self._folder(new)) is None:
                    return False
                if place.names.get(_base(new)) is node:
                    return True  # rename(2): both are names of the same file
                place.names[_base(new)] = node
                if verb == "rename":
                    self._drop(fields[0])
                place.touch(fields[1])
            case "unlink":
                return self._drop(fields[0])
            case "make":
                path, target = _text(fields[0]), _text(fields[7]) if fields[7:] else ""
                node = Node(_dress(fields[2:7]), int(fields[1]), target)
                if (place := self._folder(path)) is None:
                    return False
                place.names[_base(path)] = self._numbers[int(fields[1])] = node
                place.touch(fields[0])
            case "flush-all":
                for each in self._all():
                    each.flush()
            case _:
                return self._change(verb, fields)
        return True

    def _change(self, verb: str, fields: list[str]) -> bool:
        node = self._numbers.get(int(fields[0]))
        if node is None:
            return False
        match verb:
            case "write":
                node.dress, offset, data = _dress(fields[1:6]), int(fields[6]), bytes.fromhex(fields[7])
                node.data = node.data[:offset].ljust(offset, b"\0") + data + node.data[offset + len(data) :]
            case "truncate":
                node.dress, size = _dress(fields[1:6]), int(fields[6])
                node.data = node.data[:size].ljust(size, b"\0")
            case "dress":
                node.dress = _dress(fields[1:6])
            case "attribute":
                node.attributes[_text(fields[6])] = bytes.fromhex(fields[7])
            case "flush":
                node.flush()
            case _:
                raise AssertionError(verb)
        return True

    def lay_out(self, *, names_kept: bool) -> None:
        """Have the host's folders be as they would be found after the power went."""
        laid: dict[int, str] = {}
        for path, top in self._tops.items():
            self._lay_out(top, path, laid, names_kept=names_kept)

    def _lay_out(self, node: Node, path: str, laid: dict[int, str], *, names_kept: bool) -> None:
        dress = node.dress if names_kept else node.flushed_dress
        if id(node) in laid and not stat.S_ISDIR(dress.mode):
            with suppress(FileExistsError):  # it is that very file already
                os.link(laid[id(node)], path, follow_symlinks=False)
            return
        laid[id(node)] = path
        if stat.S_ISLNK(dress.mode):
            os.symlink(node.target, path)
        elif stat.S_ISDIR(dress.mode):
            os.makedirs(path, exist_ok=True)
            names = node.names if names_kept else node.flushed_names
            for name in os.listdir(path):
                _clear(os.path.join(path, name), names.get(name))
            for name, child in names.items():
                self._lay_out(child, os.path.join(path, name), laid, names_kept=names_kept)
        else:
            with open(path, "wb") as file:
                file.write(node.flushed_data)
            for name in os.listxattr(path):
                os.removexattr(path, name)
            for name, value in node.flushed_attributes.items():
                os.setxattr(path, name, value)
        os.chown(path, dress.uid, dress.gid, follow_symlinks=False)
        if not stat.S_ISLNK(dress.mode):
            os.chmod(path, stat.S_IMODE(dress.mode))
        os.utime(path, ns=(dress.accessed_ns, dress.modified_ns), follow_symlinks=False)

    def _all(self) -> Iterator[Node]:
        waiting, seen = list(self._tops.values()), set[int]()
        while waiting:
            node = waiting.pop()
            if id(node) not in seen:
                seen.add(id(node))
                waiting += node.names.values()
                yield node

    def _folder(self, path: str) -> Node | None:
        return self._find(os.path.dirname(path))

    def _find(self, path: str) -> Node | None:
        for top, node in self._tops.items():
            if path == top:
                return node
            if path.startswith(f"{top}/"):
                found: Node | None = node
                for part in path[len(top) + 1 :].split("/"):
                    found = found.names.get(part) if found is not None else None
                return found
        return None

    def _drop(self, field: str) -> bool:
        path = _text(field)
        place = self._folder(path)
        if place is None or place.names.pop(_base(path), None) is None:
            return False
        place.touch(field)
        return True


def _clear(path: str, then: Node | None) -> None:
    """Take away what stands at a path, unless it is the folder or file that is there then: a real disk keeps that."""
    status = os.lstat(path)
    if not stat.S_ISDIR(status.st_mode):
        if then is None or status.st_ino != then.number or not stat.S_ISREG(status.st_mode):
            os.unlink(path)
    elif then is None or not stat.S_ISDIR(then.dress.mode):
        shutil.rmtree(path)


def _text(field: str) -> str:
    return os.fsdecode(bytes.fromhex(field.partition(":")[0]))


def _base(path: str) -> str:
    return os.path.basename(path)


def _dress(fields: list[str]) -> Dress:
    return Dress(*map(int, fields))
