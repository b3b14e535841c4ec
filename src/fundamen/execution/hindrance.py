"""Find obstacles to steps before the first is made, each with the narrowest remedy.

Only what the system says beforehand is reported: a file system that is mounted for reading only, missing rights, flags
that forbid changes, a folder or a device where a file should be. Sources: statvfs(3), access(2), ioctl_iflags(2).
"""

import array
import functools
import os
import shlex
import stat
from collections.abc import Callable, Iterator, Mapping, Sequence

import msgspec

from fundamen.changes.hives import place_of_key, read_hive
from fundamen.machine.descent import FOLDER
from fundamen.machine.machine import Machine
from fundamen.machine.places import Place
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, RestorationError
from fundamen.model.paths import MachinePath

_SESSION_MANAGER, _PENDING_LIST = (
    r"HKLM\System\CurrentControlSet\Control\Session Manager",
    "PendingFileRenameOperations",
)
_OF_THE_KERNEL = "\\??\\"  # how paths begin there
_GET_FLAGS = 0x8008_6601  # FS_IOC_GETFLAGS
_IMMUTABLE, _APPEND_ONLY = 0x10, 0x20

_Reason = tuple[Message, Message]


class Hindrance(msgspec.Struct, frozen=True):
    """Why a step cannot be made."""

    path: MachinePath
    why: Message
    do: Message


def require_unhindered(machine: Machine, places: Sequence[tuple[MachinePath, Place]]) -> None:
    """Make sure that nothing which the system tells beforehand stands in the way.

    Raises:
        RestorationError: something does; nothing was changed.
    """
    of_folder = functools.cache(_of_folder)
    found = [hindrance for path, target in places for hindrance in _hindrances(path, target, of_folder)]
    if machine.platform is Platform.WINDOWS:
        found += _of_windows(machine, places)
    if found:
        more = say("execution.and-more", count=len(found) - 1) if len(found) > 1 else ""
        raise RestorationError(
            what=say("execution.the-restoration-was-not-begun"),
            why=f"{printable(found[0].path)}: {found[0].why}{more}",
            do=say("execution.nothing-was-changed", do=found[0].do),
        )


def _hindrances(path: MachinePath, target: Place, of_folder: Callable[[Place], _Reason | None]) -> Iterator[Hindrance]:
    kind = _kind_of(target)
    if kind not in {0, stat.S_IFREG, stat.S_IFLNK}:
        what = "a folder" if kind == stat.S_IFDIR else say("execution.no-ordinary-file")
        yield Hindrance(path, say("execution.it-is-not-an-ordinary-file", what=what), say("execution.set-it-aside"))
    if kind == stat.S_IFREG and (flag := _forbidding_flag(target)):
        host = target.host
        yield Hindrance(
            path,
            say("execution.is", host=printable(host), flag=flag),
            say("execution.chattr", taken_off=_TAKEN_OFF[flag], host=shlex.quote(host)),
        )
    if (reason := of_folder(target.folder)) is not None:
        yield Hindrance(path, *reason)


def _of_windows(machine: Machine, places: Sequence[tuple[MachinePath, Place]]) -> Iterator[Hindrance]:
    """Actions of Windows on a place at its next start; names that are one to it count as one.

    Source: MoveFileEx, "MOVEFILE_DELAY_UNTIL_REBOOT", for the list of pending renames: pairs of a path and a new one,
    which is empty where the file is to be deleted.
    """
    pending = _pending_actions(machine)
    for path, target in places:
        if (then := pending.get(machine.fold(path))) is not None:
            yield Hindrance(
                path,
                say("execution.windows-is-about-to-it-at", then=then),
                say(
                    "execution.start-that-windows-and-shut-it",
                    pending_list=_PENDING_LIST,
                    session_manager=_SESSION_MANAGER,
                ),
            )
        alike = [each for each in _names(target.folder) if each.lower() == target.name.lower()]
        if len(alike) > 1:
            reason = " and ".join(sorted(alike))
            yield Hindrance(
                path,
                say("execution.differ-only-in-case-windows-sees", names=printable(reason)),
                say("execution.set-one-aside"),
            )


def _pending_actions(machine: Machine) -> Mapping[str, str]:
    """Actions at the next start, by the folded place; none where the registry cannot be read."""
    try:
        place = place_of_key(machine, _SESSION_MANAGER)
        value = place.value_in(read_hive(machine, place.location), _PENDING_LIST)
    except FundamenError:  # a part of a volume, a prefix in use: the step that needs the registry says so
        return {}
    entries = value.data.decode("utf-16-le", "replace").split("\0") if value is not None else []
    found: dict[str, str] = {}
    for source, target in zip(entries[::2], entries[1::2], strict=False):
        new = target.lstrip("!*1").removeprefix(_OF_THE_KERNEL)
        if old := source.lstrip("*1").removeprefix(_OF_THE_KERNEL):
            found[machine.fold(old)] = "move" if new else "delete"
        if new:
            found[machine.fold(new)] = say("execution.put-another-file-over")
    return found


def _names(folder: Place) -> list[str]:
    try:
        return folder.names()
    except OSError:
        return []


def _kind_of(place: Place) -> int:
    """The file type bits of an entry; 0 for none."""
    try:
        return stat.S_IFMT(place.status().st_mode)
    except OSError:
        return 0


def _of_folder(wanted: Place) -> _Reason | None:
    """(why nothing can be put into a folder, what to do) of the folder, or the nearest above it that is there."""
    folder = wanted
    while folder.inner and not _kind_of(folder):
        folder = folder.folder
    host = folder.host
    if not folder.is_folder:
        return say("execution.is-no-folder", host=printable(host)), say("execution.see-what-is-there-and-set")
    with folder.open_handle(FOLDER) as handle:
        if hasattr(os, "fstatvfs") and os.fstatvfs(handle).f_flag & os.ST_RDONLY:
            mount = shlex.quote(_mount_of(host))
            return say("execution.its-file-system-is-mounted-for"), say("execution.mount-o-remount-rw", mount=mount)
        may_write = os.access(".", os.W_OK | os.X_OK, dir_fd=handle)
    if flag := _forbidding_flag(folder):
        return say("execution.is", host=printable(host), flag=flag), say(
            "execution.chattr", taken_off=_TAKEN_OFF[flag], host=shlex.quote(host)
        )
    if not may_write:
        return say("execution.we-may-not-write-to", host=printable(host)), say("execution.run-the-same-command-as-the")
    return None


_TAKEN_OFF: Mapping[str, str] = {"immutable": "-i", "append-only": "-a"}


def _forbidding_flag(place: Place) -> str:
    """The flag of a file or folder that forbids changes, which not even the administrator may make; empty: none."""
    try:
        import fcntl  # noqa: PLC0415 - not on every host

        handle = place.open_quietly()
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
