"""Who has files of this host open or mapped. Source: proc(5)."""

import os
from collections.abc import Iterable, Iterator

import msgspec

from fundamen.model.paths import HostPath

_LOST = " (deleted)"  # how the system marks a file that is open and has no name any more
_MOST_NAME = 15  # bytes of a process's name that the system keeps
_LOCKS = (
    "/var/lib/dpkg/lock-frontend",
    "/var/lib/dpkg/lock",
    "/var/lib/apt/lists/lock",
    "/var/lib/rpm/.rpm.lock",
    "/usr/lib/sysimage/rpm/.rpm.lock",
)


class User(msgspec.Struct, frozen=True):
    """A process that has a file open or mapped."""

    pid: int
    name: str
    service: str  # the service that it belongs to; empty where it belongs to none


def find_users(targets: Iterable[HostPath]) -> tuple[User, ...]:
    """The processes of this host that have one of some files open or mapped, as far as we may look."""
    wanted = {(status.st_dev, status.st_ino) for path in targets if (status := _status(path)) is not None}
    if not wanted or not os.path.isdir("/proc/self/map_files"):
        return ()
    return tuple(_user(pid) for pid in _others() if _uses(pid, wanted))


def find_users_of_lost(folder: HostPath) -> tuple[User, ...]:
    """The processes of this host that have a file below a folder open or mapped that is no longer there."""
    return tuple(_user(pid) for pid in _others() if any(_is_lost(target, folder) for target in _targets(pid)))


def find_running(program: HostPath) -> tuple[User, ...]:
    """The processes of this host that run a program, as far as we may look."""
    status = _status(program)
    found = []
    for pid in _others() if status is not None else ():
        own = _status(HostPath(f"/proc/{pid}/exe"))
        if own is not None and status is not None and (own.st_dev, own.st_ino) == (status.st_dev, status.st_ino):
            found.append(_user(pid))
    return tuple(found)


def process_of(named: str) -> User | None:
    """The process of a number or name, of several the one that was started last; None where there is none."""
    if named.isdecimal():
        return _user(named) if os.path.isdir(f"/proc/{named}") else None
    return next((user for pid in reversed(_others()) if (user := _user(pid)).name == named[:_MOST_NAME]), None)


def holds_lock(pid: int) -> str:
    """A package manager's lock that a process holds; empty where it holds none. Source: proc(5), /proc/locks."""
    try:
        with open("/proc/locks", encoding="utf-8") as file:
            held = {tuple(fields[5].split(":")) for line in file if (fields := line.split())[4:5] == [str(pid)]}
    except (OSError, IndexError):
        return ""
    for path in _LOCKS:
        status = _status(HostPath(path))
        device = f"{os.major(status.st_dev):02x}:{os.minor(status.st_dev):02x}" if status is not None else ""
        if status is not None and (*device.split(":"), str(status.st_ino)) in held:
            return path
    return ""


def _others() -> list[str]:
    """The numbers of all processes but our own, the oldest first."""
    own = str(os.getpid())
    try:
        return sorted((name for name in os.listdir("/proc") if name.isdecimal() and name != own), key=int)
    except OSError:  # no such file system here
        return []


def _status(path: HostPath) -> os.stat_result | None:
    try:
        return os.stat(path)
    except OSError:
        return None


def _uses(pid: str, wanted: set[tuple[int, int]]) -> bool:
    statuses = (_status(link) for link in _links(pid))
    return any(status is not None and (status.st_dev, status.st_ino) in wanted for status in statuses)


def _links(pid: str) -> Iterator[HostPath]:
    """The links by which a process's open and mapped files are recognised."""
    for inner in ("map_files", "fd"):
        folder = f"/proc/{pid}/{inner}"
        try:
            names = os.listdir(folder)
        except OSError:  # it has ended, or is someone else's
            continue
        yield from (HostPath(f"{folder}/{name}") for name in names)


def _targets(pid: str) -> Iterator[str]:
    """The paths of a process's open and mapped files, as the system tells them."""
    for link in _links(pid):
        try:
            yield os.readlink(link)
        except OSError:  # it was closed meanwhile
            continue


def _is_lost(target: str, folder: str) -> bool:
    return target.startswith(folder + "/") and target.endswith(_LOST)


def _user(pid: str) -> User:
    name = _first_line(f"/proc/{pid}/comm")
    unit = _first_line(f"/proc/{pid}/cgroup").rpartition("/")[2]
    return User(int(pid), name or pid, unit if unit.endswith(".service") and not unit.startswith("user@") else "")


def _first_line(path: str) -> str:
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            return file.readline().strip()
    except OSError:
        return ""
