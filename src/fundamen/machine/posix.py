"""Machines whose paths are POSIX's: this host, or a root file system mounted at a folder."""

import contextlib
import os
import posixpath
import stat
from collections import deque
from collections.abc import Container, Mapping
from contextlib import AbstractContextManager
from functools import cached_property
from typing import Self

from fundamen.formats.byte_source import ByteSource
from fundamen.machine.file_bytes import FileBytes, open_quietly
from fundamen.machine.machine import AccessRights, Entry, EntryKind, Machine, not_a_file, why_blocked
from fundamen.machine.places import HAS_PLACES, Ground, Place, Top, opened_ground
from fundamen.machine.scanning import PlaceScanning, Scanning
from fundamen.messages import UNSAID, say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath

_ABSENT = Entry(EntryKind.ABSENT)
_MANY_LOOKS = 24  # into one folder, from which on it is listed: so many cost as much as a list of some hundred names
MOST_LINKS = 40  # the kernel's own limit in one look-up (path_resolution(7))


class _AnyName:
    """Stands for the names of a folder that cannot be listed."""

    def __contains__(self, _name: object) -> bool:
        return True


class PosixMachine(Machine):
    """A root at a folder of this host; ``/`` is this host itself.

    Below any other folder every link is followed here, by the rules of path_resolution(7) with that folder as the
    root: an absolute link starts again at the folder, and ``..`` does not climb out of it.
    """

    paths = posixpath

    may_be_shared = True
    _may_be_listed = False  # whether a name that no list of its folder has is not there

    def __init__(self, root: HostPath, environment: Mapping[str, str], current: HostPath) -> None:
        """Make the machine.

        Args:
            root: the folder that holds it.
            environment: what its programs are started with.
            current: the folder that relative paths of a live machine count from.
        """
        super().__init__()
        self.is_live = root == "/"
        self.root = root
        self.title = (
            "this machine"
            if self.is_live
            else say("machine.the-root-at", words=self.platform.in_words, root=printable(root))
        )
        self.environment = environment
        self._current = current
        self._prefix = "" if self.is_live else root.rstrip("/")
        self.is_at_folder = not self.is_live and HAS_PLACES
        self._folders: dict[str, str] = {}  # as it is spelled -> with its links followed
        self._links: dict[str, str | None] = {}  # path without links but perhaps the last -> target
        self._looked_at: dict[MachinePath, Entry] = {}
        self._looks_into: dict[str, int] = {}  # folder -> how many looks were taken for something in it
        self._names_in: dict[str, Container[str]] = {}  # of those into which many were taken
        self._real: dict[MachinePath, MachinePath] = {}

    def look(self, path: MachinePath) -> Entry:
        """Tell what stands at a path."""
        entry = self._looked_at.get(path)
        if entry is None:
            if self.is_known_absent(path):
                return _ABSENT
            entry = self._looked_at[path] = looked_at(self, path)
        return entry

    def is_known_absent(self, path: MachinePath) -> bool:
        """Whether a folder in which much is looked for, and which was therefore listed, has no such name."""
        folder, _, name = path.rpartition("/")
        names = self._names_in.get(folder)
        if names is None:
            count = self._looks_into[folder] = self._looks_into.get(folder, 0) + 1
            if count < _MANY_LOOKS or not self._may_be_listed:
                return False
            names = self._names_in[folder] = self._list_names(folder)
        return name.casefold() not in names and name not in {"", ".", ".."}

    def _list_names(self, folder: str) -> Container[str]:
        """The names in a folder, without case, for some file systems find them so; any name where that is unknown."""
        try:
            if self.is_at_folder:
                return frozenset(map(str.casefold, self.place(MachinePath(folder)).names()))
            names = frozenset(map(str.casefold, os.listdir(folder or "/")))
            # What is mounted only when it is asked for stands in no list before.
            return names if names or not os.path.ismount(folder or "/") else _AnyName()
        except (FileNotFoundError, NotADirectoryError):
            return frozenset()
        except (OSError, ValueError, UnreadableError):
            return _AnyName()

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names in a folder, sorted; empty where there is no such folder."""
        return list_on_host(self, folder)

    def real(self, path: MachinePath) -> MachinePath:
        """The path with all links followed."""
        real = self._real.get(path)
        if real is None:
            try:
                real = self.own_place(path) if self.is_known_absent(path) else MachinePath(self._resolve(path))
            except UnreadableError:  # a loop of links; a look at the path reports it
                real = path
            self._real[path] = real
        return real

    def open(self, path: MachinePath) -> AbstractContextManager[ByteSource]:
        """Open a file for reading by offset."""
        return open_on_host(self, path)

    def content(self, path: MachinePath, limit: int) -> bytes:
        """All bytes of a small file. A shorter way than ``open``: package databases have thousands of such files."""
        try:
            handle = self.place(path).open_quietly() if self.is_at_folder else open_quietly(self.host_path(path))
        except (OSError, UnreadableError):
            return super().content(path, limit)  # which says why
        try:
            status = os.fstat(handle)
            return os.read(handle, min(status.st_size, limit)) if stat.S_ISREG(status.st_mode) else b""
        finally:
            os.close(handle)

    @cached_property
    def ground(self) -> Ground:
        """Where on this host its files lie, held open so that nothing leads out."""
        return opened_ground({"": self.root}, self.title) if HAS_PLACES else super().ground

    @cached_property
    def _top(self) -> Top:
        return self.ground.tops[""]

    def place(self, path: MachinePath) -> Place:
        """The place of a path, all links of the machine followed, whether or not something is there."""
        return self._top.place(self._resolve(path))

    def rights(self, path: MachinePath) -> AccessRights | None:
        """The rights of the entry at a path, all links followed; None where there is no such entry."""
        try:
            status = self.status(path)
        except (OSError, ValueError, UnreadableError):
            return None
        return AccessRights(stat.S_IMODE(status.st_mode), status.st_uid, status.st_gid)

    def status(self, path: MachinePath) -> os.stat_result:
        """The result of stat(2) for a path, all links of the machine followed. Raises: OSError, UnreadableError."""
        if not self.is_at_folder:
            return os.stat(path)
        inner = self._resolve(path)[1:]
        try:
            return self._top.status(inner)
        except OSError as error:
            raise OSError(error.errno, error.strerror, self._top.host(inner)) from error

    def scanner(self) -> Scanning:
        """A scanner of its folders."""
        return PlaceScanning(self.ground, self.place) if self.is_at_folder else super().scanner()

    def host_path(self, path: MachinePath) -> HostPath:
        """Where on this host a path of the machine lies."""
        if self.is_live:
            return HostPath(path)
        return HostPath(self._prefix + self._resolve(path))

    def absolute_path(self, text: str) -> MachinePath:
        """The path for a typed one: a path of the machine, or of this host inside the machine's folder."""
        if self.is_live:
            return MachinePath(os.path.abspath(os.path.join(self._current, text)))
        if self.look(MachinePath(posixpath.join("/", text))).kind is EntryKind.ABSENT:
            on_host = os.path.abspath(os.path.join(self._current, text))
            if on_host.startswith(self._prefix + "/"):
                return MachinePath(on_host[len(self._prefix) :])
        return MachinePath(posixpath.normpath(posixpath.join("/", text)))

    def afresh(self) -> Self:
        """The same machine with nothing remembered of what was read."""
        return type(self)(self.root, self.environment, self._current)

    def _resolve(self, path: str) -> str:
        """A path with its links followed; most have a folder that was followed before, and end in no link."""
        folder, _, name = path.rpartition("/")
        if name in {"", ".", ".."}:
            return self._follow_links(path)
        place = self._folders.get(folder)
        if place is None:
            place = self._folders[folder] = self._follow_links(folder).rstrip("/")
        below = f"{place}/{self._actual(place, name)}"
        return below if self._link(below) is None else self._follow_links(path)

    def _follow_links(self, path: str) -> str:
        parts = deque(path.split("/"))
        resolved = ""
        links = 0
        while parts:
            part = parts.popleft()
            if part in {"", "."}:
                continue
            if part == "..":
                resolved = resolved.rpartition("/")[0]
                continue
            below = f"{resolved}/{self._actual(resolved, part)}"
            target = self._link(below)
            if target is None:
                resolved = below
                continue
            links += 1
            if links > MOST_LINKS:
                raise UnreadableError(
                    what=say("machine.cannot-be-followed", path=printable(path)),
                    why=say("machine.its-links-lead-round-in-a"),
                    do=say("machine.repair-the-link-that-points-back"),
                )
            if target.startswith("/"):
                resolved = ""
            parts.extendleft(reversed(target.split("/")))
        return resolved or "/"

    def _actual(self, folder: str, name: str) -> str:  # noqa: ARG002 - for machines that compare without case
        """How a name in a folder is spelled."""
        return name

    def _link(self, path: str) -> str | None:
        """The target of the link at a path whose folder holds no links; None where it is no link."""
        try:
            return self._links[path]
        except KeyError:
            pass
        target: str | None = None
        with contextlib.suppress(OSError, ValueError):  # not a link, or nothing there: the look-up that follows tells
            target = self._top.link(path[1:]) if self.is_at_folder else os.readlink(self._prefix + path)
        self._links[path] = target
        return target


class LinuxMachine(PosixMachine):
    """This host, or a Linux root."""

    platform = Platform.LINUX
    _may_be_listed = True


def looked_at(machine: Machine, path: MachinePath) -> Entry:
    """The entry at a path of a machine whose files lie on this host."""
    try:
        entry = entry_of(machine.status(path))
    except (FileNotFoundError, NotADirectoryError, ValueError):  # ValueError: a NUL in a name that a hostile file gave
        return Entry(EntryKind.ABSENT)
    except OSError as error:
        return Entry(EntryKind.BLOCKED, why=why_blocked(error))
    except UnreadableError as error:
        return Entry(EntryKind.BLOCKED, why=error.why)
    # A Windows volume's files have whatever modes its mounting gave them.
    return Entry(entry.kind, entry.size) if machine.platform is Platform.WINDOWS else entry


def entry_of(status: os.stat_result) -> Entry:
    """The entry for a status."""
    return entry_of_mode(status.st_mode, status.st_size)


def entry_of_mode(mode: int, size: int) -> Entry:
    """The entry for a mode, as stat(2) has it."""
    if stat.S_ISLNK(mode):  # links were followed already
        return Entry(EntryKind.BLOCKED, why=say("machine.a-link-was-put-there-meanwhile"))
    if stat.S_ISREG(mode):
        is_executable = bool(mode & (stat.S_IXUSR | stat.S_IXGRP | stat.S_IXOTH))
        changes_account = bool(mode & (stat.S_ISUID | stat.S_ISGID))
        return Entry(EntryKind.FILE, size, UNSAID, is_executable, changes_account)
    return Entry(EntryKind.FOLDER if stat.S_ISDIR(mode) else EntryKind.SPECIAL)


def list_on_host(machine: Machine, folder: MachinePath) -> tuple[str, ...]:
    """The names in a folder of a machine whose files lie on this host, sorted; empty where there is none.

    Raises:
        UnreadableError: the folder may not be read.
    """
    try:
        here = machine.is_at_folder
        return tuple(sorted(machine.place(folder).names() if here else os.listdir(machine.host_path(folder))))
    except (FileNotFoundError, NotADirectoryError):
        return ()
    except OSError as error:
        raise UnreadableError(
            what=say("machine.the-folder-cannot-be-read", folder=printable(folder)),
            why=why_blocked(error),
            do=say("machine.ask-for-the-right-to-read"),
        ) from error


def open_on_host(machine: Machine, path: MachinePath) -> FileBytes:
    """Open an ordinary file of a machine whose files lie on this host.

    Raises:
        UnreadableError: there is no such file, or it may not be read.
    """
    entry = machine.look(path)
    if entry.kind is not EntryKind.FILE:
        raise not_a_file(path, entry, machine.title)
    try:
        return FileBytes(machine.place(path) if machine.is_at_folder else machine.host_path(path), path)
    except OSError as error:
        raise not_a_file(path, Entry(EntryKind.BLOCKED, why=why_blocked(error)), machine.title) from error
