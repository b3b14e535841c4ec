"""A machine with changes laid over it that have not been made."""

import os
from collections.abc import Iterable, Mapping
from contextlib import AbstractContextManager
from itertools import chain

import msgspec

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.unix.access import acl_with_mode
from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.machine import AccessRights, Entry, EntryKind, Machine, not_a_file
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.model.binary import Binary
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath

_MOST_HOPS = 40  # from link to link: path_resolution(7)


class Layer:
    """A layer of changes over a machine."""

    def __init__(self, base: Machine) -> None:
        """Begin with nothing."""
        self.base = base
        self.placed: dict[MachinePath, HostPath | Place] = {}
        self.links: dict[MachinePath, MachinePath] = {}  # to what they lead
        self.gone: list[MachinePath] = []
        self.made: list[MachinePath] = []  # folders
        self.rights: dict[MachinePath, AccessRights] = {}

    def over(self) -> "OverlayMachine":
        """The machine with all of it; a link to a file is laid over it as a copy of that."""
        own = {self.base.own_place(path): content for path, content in self.placed.items()}
        copies: dict[MachinePath, HostPath | Place] = {}
        for path, leads_to in self.links.items():
            copy = self.placed.get(leads_to, own.get(leads_to))
            if copy is not None:
                copies[path] = copy
            elif self.base.look(leads_to).kind is EntryKind.FILE:
                at_folder = self.base.is_at_folder
                copies[path] = self.base.place(leads_to) if at_folder else self.base.host_path(leads_to)
        return OverlayMachine(self.base, {**self.placed, **copies}, self.links, self.gone, self.made, self.rights)


class OverlayMachine(Machine):
    """A base machine as it would be with some files placed. Nothing is written; every look goes through the changes."""

    def __init__(
        self,
        base: Machine,
        placed: Mapping[MachinePath, HostPath | Place],
        links: Mapping[MachinePath, MachinePath] | None = None,
        gone: Iterable[MachinePath] = (),
        made: Iterable[MachinePath] = (),
        rights: Mapping[MachinePath, AccessRights] | None = None,
    ) -> None:
        """Lay changes over a machine.

        Args:
            base: the machine as it is.
            placed: where a file would stand -> the host file with its content; a link to a file may stand among them,
                with the content of that.
            links: where a link would stand -> to what it would lead.
            gone: what would not be there any more, with all below it.
            made: where a folder would stand.
            rights: of entries that would get others.
        """
        super().__init__()
        self.base = base
        self.title = say("machine.as-it-would-be", title=base.title)
        self.platform = base.platform
        self.is_live = False
        self.root = base.root
        self.paths = base.paths
        self.environment = base.environment
        self.registry = base.registry
        self._placed = placed
        self._links = dict(links or {})
        # Their own places: where a link was there, what it led to is not changed.
        self._new = {self.fold(place): place for place in map(base.own_place, (*placed, *self._links))}
        # Links that lead to folders, or nowhere; those to new files have their content.
        self._ways = {
            self.fold(path): to
            for path, to in self._links.items()
            if not {path, self.base.own_place(path)} & placed.keys()
        }
        self._gone = tuple(gone)
        self._gone_keys = {self._key(path) for path in self._gone}
        self._contents = {self._key(path): content for path, content in placed.items()}
        self._made = tuple(made)
        self._rights = dict(rights or {})
        self.run_as = base.run_as
        around = [self._above(path) for path in (*placed, *self._links, *self._made)]
        self._folders = {self._key(folder): folder for folder in (*self._made, *chain.from_iterable(around))}

    def look(self, path: MachinePath) -> Entry:
        """Tell what would stand at a path."""
        path = self._through(path)
        key = self._key(path)
        if key in self._contents:
            content = self._contents[key]
            status = content.status() if isinstance(content, Place) else os.stat(content)
            return Entry(EntryKind.FILE, status.st_size)
        if self._is_gone(key):
            return Entry(EntryKind.ABSENT)
        entry = self.base.look(path)
        rights = self._rights.get(self.base.real(path)) if entry.kind is EntryKind.FILE else None
        if rights is not None:
            return msgspec.structs.replace(entry, is_executable=bool(rights.mode & 0o111))
        if entry.kind is EntryKind.ABSENT and key in self._folders:
            return Entry(EntryKind.FOLDER)
        leads_to = self._links.get(self.base.own_place(path))
        follows_link = entry.kind is EntryKind.ABSENT and leads_to is not None and leads_to not in self._links
        return self.look(leads_to) if follows_link and leads_to is not None else entry

    def rights(self, path: MachinePath) -> AccessRights | None:
        """The rights that an entry would have; those of new ones are what their packages say."""
        real = self.real(path)
        is_new = self._key(real) in self._contents or self._key(real) in self._folders
        return self._rights.get(real) or (None if is_new else self.base.rights(real))

    def access_list(self, path: MachinePath) -> bytes:
        """The list that an entry would have: with other permission bits it keeps the names in it."""
        real = self.real(path)
        if self._key(real) in self._contents or self._key(real) in self._folders:
            return b""
        acl, rights = self.base.access_list(real), self._rights.get(real)
        return acl_with_mode(acl, rights.mode) if acl and rights is not None else acl

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names that would stand in a folder, sorted."""
        folder = self.real(folder)
        key = self.fold(folder)
        added = (*self._placed, *self._links, *self._folders.values())
        new = {self.paths.basename(p) for p in added if self._key(self.folder_of(self.base.own_place(p))) == key}
        standing = () if self._is_gone(key) else self.base.names(folder)
        if self._gone_keys:
            standing = tuple(n for n in standing if not self._is_gone(self._key(self.join(folder, n))))
        known = {self.fold(name) for name in standing}
        return tuple(sorted((*standing, *(n for n in new if self.fold(n) not in known))))

    def real(self, path: MachinePath) -> MachinePath:
        """The path with all links followed."""
        path = self._through(path)
        place = self._new.get(self.fold(self.base.own_place(path)))
        real = self.base.real(path) if place is None else place
        return self._links.get(real, real)

    def open(self, path: MachinePath) -> AbstractContextManager[ByteSource]:
        """Open a file as it would be."""
        path = self._through(path)
        content = self._contents.get(self._key(path))
        if content is not None:
            return FileBytes(content, path)
        if self._is_gone(self._key(path)):
            raise not_a_file(path, Entry(EntryKind.ABSENT), self.title)
        return self.base.open(path)

    def host_path(self, path: MachinePath) -> HostPath:
        """Refused for every path: what is only laid over the machine lies nowhere."""
        raise UnreadableError(
            what=say("machine.has-no-place-on-this-host", path=printable(path)),
            why=say("machine.the-change-is-only-rehearsed"),
            do=say("machine.carry-the-restoration-out-first"),
        )

    def absolute_path(self, text: str) -> MachinePath:
        """The path of the base machine for a typed one."""
        return self.base.absolute_path(text)

    def fold(self, name: str) -> str:
        """The form in which the base machine compares names."""
        return self.base.fold(name)

    def afresh(self) -> "OverlayMachine":
        """The same changes over the base machine with nothing remembered."""
        return OverlayMachine(self.base.afresh(), self._placed, self._links, self._gone, self._made, self._rights)

    def binary(self, path: MachinePath) -> Binary:
        """Read an executable file; what no change touches is taken from the base machine, which may have it already."""
        path = self._through(path)
        return super().binary(path) if self._key(path) in self._contents else self.base.binary(path)

    def _is_gone(self, key: str) -> bool:
        """Whether something is there no longer, and nothing new does."""
        return any(key == gone or key.startswith((gone + "/", gone + "\\")) for gone in self._gone_keys)

    def _through(self, path: MachinePath) -> MachinePath:
        """A path whose folders are reached through links that would stand, as it is reached without them."""
        for _ in range(_MOST_HOPS if self._ways else 0):
            target = self._follow_overlaid_link(path)
            if target is None and self.fold(self.base.own_place(path)) not in self._new:
                target = self._follow_overlaid_link(self.base.real(path))
            if target is None:
                break
            path = target
        return path

    def _follow_overlaid_link(self, path: MachinePath) -> MachinePath | None:
        """Where a path leads by the link nearest to its end that would stand among its folders; None without any."""
        folder = self.folder_of(path)
        while self.fold(folder) not in self._ways and folder != self.folder_of(folder):
            folder = self.folder_of(folder)
        leads_to = self._ways.get(self.fold(folder))
        return None if leads_to is None else self.join(leads_to, path[len(folder) :].lstrip("/\\"))

    def _key(self, path: MachinePath) -> str:
        own = self.fold(self.base.own_place(path))
        return own if own in self._new else self.fold(self.base.real(path))

    def _above(self, path: MachinePath) -> list[MachinePath]:
        """The folders that would be made for a path."""
        folders: list[MachinePath] = []
        folder = self.folder_of(self.base.own_place(path))
        while folder not in folders and self.base.look(folder).kind is EntryKind.ABSENT:
            folders.append(folder)
            folder = self.folder_of(folder)
        return folders
