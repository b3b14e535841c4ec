"""What would hinder steps, told before the first is made, with the narrowest remedy; and what to start anew after.

Only what the system says beforehand is told: a file system that is mounted for reading only, missing rights, flags that
forbid changes, a folder or a device where a file should be. Sources: statvfs(3), access(2), ioctl_iflags(2).
"""

import array
import functools
import os
import shlex
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping

import msgspec

from fundamen.machine.open_files import User
from fundamen.model.errors import RestorationError
from fundamen.model.paths import HostPath, MachinePath, shown

_GET_FLAGS = 0x8008_6601  # FS_IOC_GETFLAGS
_IMMUTABLE, _APPEND_ONLY = 0x10, 0x20
_MOST_TOLD = 3

_Told = tuple[str, str]


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
    of_folder = functools.cache(_of_folder)
    found = [hindrance for path, target in targets for hindrance in _hindrances(path, target, of_folder)]
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


def _hindrances(path: MachinePath, target: HostPath, of_folder: Callable[[str], _Told | None]) -> Iterator[Hindrance]:
    kind = _kind_of(target)
    if kind not in {0, stat.S_IFREG, stat.S_IFLNK}:
        what = "a folder" if kind == stat.S_IFDIR else "no ordinary file"
        yield Hindrance(path, f"something else than an ordinary file stands there: {what}", "Set it aside.")
    if kind == stat.S_IFREG and (flag := _forbidding(target)):
        yield Hindrance(path, f"{shown(target)} is {flag}", f"chattr {_TAKEN_OFF[flag]} {shlex.quote(target)}")
    if (told := of_folder(os.path.dirname(target))) is not None:
        yield Hindrance(path, *told)


def _kind_of(path: HostPath) -> int:
    """What stands there, as the file type bits have it; 0 for nothing."""
    try:
        return stat.S_IFMT(os.lstat(path).st_mode)
    except OSError:
        return 0


def _of_folder(wanted: str) -> _Told | None:
    """(why nothing can be put into a folder, what to do) of the folder, or the nearest above it that is there."""
    folder = wanted
    while not os.path.lexists(folder):
        folder = os.path.dirname(folder)
    if not os.path.isdir(folder):
        return f"{shown(folder)} is no folder", "See what stands there, and set it aside."
    if hasattr(os, "statvfs") and os.statvfs(folder).f_flag & os.ST_RDONLY:
        mount = shlex.quote(_mount_of(folder))
        return "its file system is mounted for reading only", f"mount -o remount,rw {mount}"
    if flag := _forbidding(folder):
        return f"{shown(folder)} is {flag}", f"chattr {_TAKEN_OFF[flag]} {shlex.quote(folder)}"
    if not os.access(folder, os.W_OK | os.X_OK):
        return f"we may not write to {shown(folder)}", "Run the same command as the administrator."
    return None


_TAKEN_OFF: Mapping[str, str] = {"immutable": "-i", "append-only": "-a"}


def _forbidding(path: str) -> str:
    """The flag of a file or folder that forbids changes, which not even the administrator may make; empty: none."""
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
