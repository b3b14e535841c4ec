"""Places: names in folders of a machine that are reached from its root without following a link.

If someone replaces a folder with a link meanwhile, the operation fails; it never leaves the machine.
"""

import contextlib
import functools
import os
import stat
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping
from typing import IO

import msgspec

from fundamen.machine.descent import FOLDER, open_below
from fundamen.messages import say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath

_MOST_OPEN = 200  # folders that one top keeps open: three times as many as a batch of changes has
_SHALLOW = 2  # slashes; folders that lie no deeper are opened one by one and kept, as most lie below the same few
# O_NONBLOCK: a named pipe that took a file's place must not hold us up.
_QUIETLY = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0)
_LEAVE_ACCESS_TIME = getattr(os, "O_NOATIME", 0)
_HANDLES = "/proc/self/fd"


HAS_PLACES = {os.open, os.stat, os.readlink} <= os.supports_dir_fd  # whether this host can hold them


class _Handle:
    """An open folder, closed when the last one who uses it lets go."""

    __slots__ = ("number",)

    def __init__(self, number: int) -> None:
        self.number = number

    def __del__(self) -> None:
        os.close(self.number)


class Top:
    """A folder of this host out of which nothing leads: the root of a machine, or one of its drives.

    Folders below it are kept open for the next look into them, until ``forget``.
    """

    def __init__(self, path: HostPath) -> None:
        """Open the folder. Raises: OSError."""
        self.path = path
        self._prefix = path.rstrip("/") + "/"
        self._handle = _Handle(os.open(path, FOLDER | getattr(os, "O_CLOEXEC", 0)))
        self._folders: OrderedDict[str, _Handle] = OrderedDict()

    def has(self, host: str) -> bool:
        """Whether a host path is inside, by its name alone."""
        return host.startswith(self._prefix) or host == self.path

    def place(self, inner: str) -> "Place":
        """The place at a path from this folder on."""
        return Place(self, inner.strip("/"))

    def place_of(self, host: str) -> "Place":
        """The place at a host path inside this folder."""
        return Place(self, host[len(self._prefix) :])

    def host(self, inner: str) -> HostPath:
        """Host path of a path relative to this folder."""
        return HostPath(self._prefix + inner if inner else self.path)

    def open(self, inner: str, flags: int, mode: int = 0) -> int:
        """Open the entry at a path relative to this folder. Raises: OSError."""
        folder, _, name = inner.rpartition("/")
        held = self.folder(folder)  # until it is opened: another thread may let go of it
        return open_below(held.number, name, flags, mode)

    def status(self, inner: str) -> os.stat_result:
        """Status of the entry at a path, as of lstat(2). Raises: OSError."""
        folder, _, name = inner.rpartition("/")
        held = self.folder(folder)
        return os.stat(name or ".", dir_fd=held.number, follow_symlinks=False)

    def link(self, inner: str) -> str:
        """Target of the symbolic link at a path. Raises: OSError."""
        folder, _, name = inner.rpartition("/")
        held = self.folder(folder)
        return os.readlink(name, dir_fd=held.number)

    def folder(self, inner: str) -> _Handle:
        """The open folder at a path. Raises: OSError."""
        if not inner:
            return self._handle
        known = self._folders.get(inner)
        if known is not None:
            return known
        above, _, name = inner.rpartition("/")
        if above in self._folders or above.count("/") < _SHALLOW:
            held = self.folder(above)
            handle = _Handle(open_below(held.number, name, FOLDER))
        else:
            handle = _Handle(open_below(self._handle.number, inner, FOLDER))
        if len(self._folders) >= _MOST_OPEN:
            with contextlib.suppress(KeyError):  # another thread took it out
                self._folders.popitem(last=False)
        self._folders[inner] = handle
        return handle

    def forget(self, inner: str = "") -> None:
        """Close the cached folders at and below a path, so that they are opened again."""
        for each in [each for each in self._folders if not inner or each == inner or each.startswith(inner + "/")]:
            self._folders.pop(each, None)


class Place(msgspec.Struct, frozen=True):
    """A name in a folder of a machine. All methods raise OSError, with the host path; none follows a link."""

    top: Top
    inner: str  # the path from the top on; empty for the top itself

    @property
    def host(self) -> HostPath:
        """Its host path, for messages and for tools that take no handle."""
        return self.top.host(self.inner)

    @property
    def name(self) -> str:
        """Its name in its folder."""
        return self.inner.rpartition("/")[2]

    @property
    def folder(self) -> "Place":
        """The parent folder; the top is its own parent."""
        return Place(self.top, self.inner.rpartition("/")[0])

    def below(self, path: str) -> "Place":
        """A place below it."""
        return Place(self.top, f"{self.inner}/{path}".strip("/") if path else self.inner)

    def beside(self, name: str) -> "Place":
        """Another name in its folder."""
        return self.folder.below(name)

    def status(self) -> os.stat_result:
        """Status of the entry, as of lstat(2)."""
        try:
            return self.top.status(self.inner)
        except OSError as error:
            raise self._name_place_in(error) from error

    def status_or_none(self) -> os.stat_result | None:
        """Status of the entry; None if it or its folder does not exist."""
        try:
            return self.status()
        except (FileNotFoundError, NotADirectoryError):
            return None

    @property
    def is_there(self) -> bool:
        """Whether an entry exists."""
        return self.status_or_none() is not None

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return _is(self, stat.S_ISDIR)

    @property
    def is_file(self) -> bool:
        """Whether it is a regular file."""
        return _is(self, stat.S_ISREG)

    def link(self) -> str:
        """Target of the symbolic link."""
        try:
            return self.top.link(self.inner)
        except OSError as error:
            raise self._name_place_in(error) from error

    def names(self) -> list[str]:
        """Names in the folder."""
        handle = self.open(os.O_RDONLY | getattr(os, "O_DIRECTORY", 0))
        try:
            return os.listdir(handle)
        finally:
            os.close(handle)

    def open(self, flags: int, mode: int = 0) -> int:
        """Open the entry. The caller closes the handle."""
        try:
            return self.top.open(self.inner, flags, mode)
        except OSError as error:
            raise self._name_place_in(error) from error

    def open_quietly(self) -> int:
        """Open it for reading, without a trace in its access time where the system lets us."""
        try:
            return self.open(_QUIETLY | _LEAVE_ACCESS_TIME)
        except PermissionError:  # only the file's owner may ask for that
            return self.open(_QUIETLY)

    def open_to_read(self) -> IO[bytes]:
        """The file, opened for reading."""
        return os.fdopen(self.open_quietly(), "rb")

    @contextlib.contextmanager
    def open_handle(self, flags: int) -> Iterator[int]:
        """A handle of the entry, closed afterwards."""
        handle = self.open(flags)
        try:
            yield handle
        except OSError as error:
            raise self._name_place_in(error) from error
        finally:
            os.close(handle)

    def attributes(self) -> tuple[tuple[str, bytes], ...]:
        """The extended attributes of a file or folder, sorted."""
        with self.itself() as it:
            return tuple((name, os.getxattr(it, name)) for name in sorted(os.listxattr(it)))

    def flush(self) -> None:
        """Have a file, or the entries of a folder, on the disk."""
        with self.open_handle(os.O_RDONLY) as handle:
            os.fsync(handle)

    @contextlib.contextmanager
    def itself(self) -> Iterator[int | str]:
        """Handle of the entry, which is no link, for calls that change it. It need not be readable."""
        flags = getattr(os, "O_PATH", os.O_RDONLY)
        with self.open_handle(flags if _has_handles_as_paths() else os.O_RDONLY) as handle:
            if stat.S_ISLNK(os.fstat(handle).st_mode):
                raise OSError(0, say("machine.it-is-a-symbolic-link"), self.host)
            # A handle that only names something is taken by calls only through its path there: open(2), O_PATH.
            yield f"{_HANDLES}/{handle}" if _has_handles_as_paths() else handle

    def at(self) -> "InFolder":
        """The handle of its folder, for calls that take a name in it."""
        return InFolder(self)

    def _name_place_in(self, error: OSError) -> OSError:
        return OSError(error.errno, error.strerror, self.host)


class InFolder:
    """Holds the folder of a place open. A class, not a generator: each call on a machine goes through it."""

    __slots__ = ("_folder", "_place")

    def __init__(self, place: Place) -> None:
        self._place = place

    def __enter__(self) -> int:
        """The folder's handle. Raises: OSError."""
        place = self._place
        try:
            self._folder = place.top.folder(place.inner.rpartition("/")[0])
        except OSError as error:
            raise place._name_place_in(error) from error  # noqa: SLF001
        return self._folder.number

    def __exit__(self, _type: object, error: BaseException | None, _trace: object) -> None:
        if isinstance(error, OSError):
            raise self._place._name_place_in(error) from error  # noqa: SLF001


class Ground(msgspec.Struct, frozen=True):
    """All tops of a machine, and how a place is written down so that it is found again wherever its disk is mounted.

    A location is ``/PATH`` below the root that was named, or ``X:/PATH`` below a drive in another folder.
    """

    tops: Mapping[str, Top]  # the root by the empty name, further drives by their letters

    def place(self, location: str) -> Place:
        """The place of a location. Raises: OSError: it is none, or of a drive that is not given."""
        name, colon, path = location.partition(":/")
        if not colon or "/" in name:
            name, path = "", location.removeprefix("/")
        top = self.tops.get(name)
        if top is None or not (colon or location.startswith("/")):
            raise OSError(
                0,
                say("machine.the-drive-is-not-given", name=name) if colon else say("machine.it-is-no-place-of-the"),
                location,
            )
        return top.place(path)

    def place_of(self, host: str) -> Place:
        """The place of a host path whose links were followed. Raises: OSError: it is outside the machine."""
        for top in self.tops.values():
            if top.has(host):
                return top.place_of(host)
        raise OSError(0, say("machine.it-is-outside-the-machine"), host)

    def location(self, place: Place) -> str:
        """How a place is written down."""
        name = next(name for name, top in self.tops.items() if top.path == place.top.path)
        return f"{name}:/{place.inner}" if name else f"/{place.inner}"

    def forget(self) -> None:
        """Close all cached folders, so that they are opened again."""
        for top in self.tops.values():
            top.forget()


def opened_ground(tops: Mapping[str, HostPath], title: str) -> Ground:
    """The ground of a machine whose tops these are. Raises: UnreadableError: one cannot be opened."""
    try:
        return Ground({name: Top(path) for name, path in tops.items()})
    except OSError as error:
        raise UnreadableError(
            what=say("machine.cannot-be-examined", title=title),
            why=say("machine.this-account-may-not-read-it")
            if isinstance(error, PermissionError)
            else error.strerror or str(error),
            do=say("machine.see-whether-the-disk-is-mounted"),
        ) from error


@functools.cache
def _has_handles_as_paths() -> bool:
    return hasattr(os, "O_PATH") and os.path.isdir(_HANDLES)


def _is(place: Place, kind: Callable[[int], bool]) -> bool:
    status = place.status_or_none()
    return status is not None and kind(status.st_mode)
