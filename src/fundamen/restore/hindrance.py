"""What would hinder steps, told before the first is made, with the narrowest remedy; and what to start anew after.

Only what the system says beforehand is told: a file system that is mounted for reading only, missing rights, flags that
forbid changes, a folder or a device where a file should be. Sources: statvfs(3), access(2), ioctl_iflags(2).
"""

import array
import os
import shlex
import stat
from collections.abc import Iterable, Iterator, Mapping

import msgspec

from fundamen.machine.open_files import User
from fundamen.model.errors import RestorationError
from fundamen.model.paths import HostPath, MachinePath, shown

_GET_FLAGS = 0x8008_6601  # FS_IOC_GETFLAGS
_IMMUTABLE, _APPEND_ONLY = 0x10, 0x20
_MOST_TOLD = 3


class Hindrance(msgspec.Struct, frozen=True):
    """Why a step cannot be made."""

    path: MachinePath
    why: str
    do: str


def require_unhindered(targets: Iterable[tuple[MachinePath, HostPath]]) -> None:
    """Make sure that nothing which the system tells beforehand stands in the way.

    Raises:
        RestorationError: something does; nothing was changed.
    """
    found = [hindrance for path, target in targets for hindrance in _hindrances(path, target)]
    if found:
        more = f", and {len(found) - 1} more" if len(found) > 1 else ""
        raise RestorationError(
            what="The restoration was not begun",
            why=f"{shown(found[0].path)}: {found[0].why}{more}",
            do=f"Nothing was changed. {found[0].do}",
        )


def restart_advice(users: Iterable[User]) -> tuple[str, ...]:
    """What must be started anew so that it uses what was restored: services by name, other programs by process."""
    services: dict[str, None] = {}
    programs: dict[str, list[int]] = {}
    for user in users:
        if user.service:
            services[user.service] = None
        else:
            programs.setdefault(user.name, []).append(user.pid)
    return (
        *(f"systemctl restart {shlex.quote(name)}" for name in services),
        *(_program(name, pids) for name, pids in programs.items()),
    )


def _program(name: str, pids: list[int]) -> str:
    told = ", ".join(str(pid) for pid in pids[:_MOST_TOLD]) + (" ..." if len(pids) > _MOST_TOLD else "")
    return f"start {name} anew (process {told})"


def _hindrances(path: MachinePath, target: HostPath) -> Iterator[Hindrance]:
    folder = os.path.dirname(target)
    while not os.path.lexists(folder):
        folder = os.path.dirname(folder)
    if not os.path.isdir(folder):
        yield Hindrance(path, f"{shown(folder)} is no folder", "See what stands there, and set it aside.")
        return
    status = _status(HostPath(target))
    if status is not None and not stat.S_ISREG(status.st_mode) and not os.path.islink(target):
        kind = "a folder" if stat.S_ISDIR(status.st_mode) else "no ordinary file"
        yield Hindrance(path, f"something else than an ordinary file stands there: {kind}", "Set it aside.")
    if hasattr(os, "statvfs") and os.statvfs(folder).f_flag & os.ST_RDONLY:
        mount = _mount_of(folder)
        yield Hindrance(
            path, "its file system is mounted for reading only", f"mount -o remount,rw {shlex.quote(mount)}"
        )
        return
    flags = {each: flag for each in (target, folder) if (flag := _forbidding(each))}
    for each, flag in flags.items():
        yield Hindrance(path, f"{shown(each)} is {flag}", f"chattr {_TAKEN_OFF[flag]} {shlex.quote(each)}")
    if not flags and not os.access(folder, os.W_OK | os.X_OK):
        yield Hindrance(path, f"we may not write to {shown(folder)}", "Run the same command as the administrator.")


_TAKEN_OFF: Mapping[str, str] = {"immutable": "-i", "append-only": "-a"}


def _forbidding(path: str) -> str:
    """The flag of a file or folder that forbids changes, which not even the administrator may make; empty: none."""
    if os.path.islink(path) or not os.path.lexists(path):
        return ""
    try:
        import fcntl  # noqa: PLC0415 - not on every host

        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0))
    except (ImportError, OSError):
        return ""
    flags = array.array("l", [0])
    try:
        fcntl.ioctl(handle, _GET_FLAGS, flags)
    except OSError:  # a file system without such flags
        return ""
    finally:
        os.close(handle)
    return "immutable" if flags[0] & _IMMUTABLE else "append-only" if flags[0] & _APPEND_ONLY else ""


def _mount_of(folder: str) -> str:
    while not os.path.ismount(folder):
        folder = os.path.dirname(folder)
    return folder


def _status(path: HostPath) -> os.stat_result | None:
    try:
        return os.stat(path)
    except OSError:
        return None
