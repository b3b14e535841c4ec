"""Who has files of this host open or mapped. Source: proc(5)."""

import os
from collections.abc import Iterable

import msgspec

from fundamen.model.paths import HostPath


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
    own = str(os.getpid())
    pids = [name for name in os.listdir("/proc") if name.isdigit() and name != own]
    return tuple(_user(pid) for pid in sorted(pids, key=int) if _uses(pid, wanted))


def _status(path: HostPath) -> os.stat_result | None:
    try:
        return os.stat(path)
    except OSError:
        return None


def _uses(pid: str, wanted: set[tuple[int, int]]) -> bool:
    for inner in ("map_files", "fd"):
        folder = f"/proc/{pid}/{inner}"
        try:
            names = os.listdir(folder)
        except OSError:  # it has ended, or is somebody else's
            continue
        for name in names:
            status = _status(HostPath(f"{folder}/{name}"))
            if status is not None and (status.st_dev, status.st_ino) in wanted:
                return True
    return False


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
