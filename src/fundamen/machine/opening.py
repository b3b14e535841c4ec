"""Open the machine that a technician names."""

import os
import sys
from collections.abc import Mapping

from fundamen.machine.machine import Machine
from fundamen.machine.posix import LinuxMachine
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath

_PLATFORM: str = sys.platform  # as a plain string: mypy would call the other platforms' lines unreachable

_MAC_SIGN = "System/Library/CoreServices/SystemVersion.plist"
# One of these at a folder makes it a Linux root: the loader's own files, or what every distribution has.
_LINUX_SIGNS = ("etc/ld.so.cache", "etc/ld.so.conf", "etc/os-release", "usr/lib", "lib64", "lib/ld-linux.so.2")


def open_machine(
    spec: str | None,
    *,
    drives: Mapping[str, str] | None = None,
    environment: Mapping[str, str] | None = None,
    current: str = "/",
) -> Machine:
    """Open a machine: this host, a Linux or macOS root at a folder, or a Windows volume or prefix at a folder.

    Args:
        spec: the folder; None or ``/`` for this host.
        drives: further drive letters of a Windows volume -> host folders.
        environment: what the machine's programs are started with, as far as it is known.
        current: the host folder that relative paths count from.

    Raises:
        UnreadableError: the folder is not there, or is no machine.
        UsageError: drives were given to a machine that has none.
    """
    environment = environment or {}
    here = HostPath(current)
    folder = HostPath("/" if spec is None else os.path.realpath(os.path.join(current, spec)))
    if spec is None or folder == "/":
        machine: Machine = _this_host(environment, here)
    else:
        machine = _machine_at(folder, spec or "", drives or {}, environment, here)
    if drives and machine.platform is not Platform.WINDOWS:
        raise UsageError(
            what="--drive cannot be used here",
            why=f"{machine.title} has no drive letters",
            do="Leave --drive out, or name a Windows volume with --machine.",
        )
    return machine


def _this_host(environment: Mapping[str, str], here: HostPath) -> Machine:
    if _PLATFORM == "win32":
        from fundamen.machine.windows_host import WindowsHost  # noqa: PLC0415 - only on Windows

        return WindowsHost(environment, here)
    if _PLATFORM != "linux":
        raise UnreadableError(
            what="This host cannot be examined yet",
            why=f"live machines are examined on Linux and Windows only, and this is {_PLATFORM}",
            do="Name a mounted root or volume with --machine FOLDER.",
        )
    return LinuxMachine(HostPath("/"), environment, here)


def _machine_at(
    folder: HostPath, spec: str, drives: Mapping[str, str], environment: Mapping[str, str], here: HostPath
) -> Machine:
    if os.path.isfile(folder):
        return _open_capture(folder, spec, environment)
    if not os.path.isdir(folder):
        why = "it is not a folder" if os.path.exists(folder) else "there is no such folder"
        raise UnreadableError(
            what=f"The machine {printable(spec)} cannot be examined",
            why=why,
            do="Name the folder where its root or system drive is mounted.",
        )
    given = {_letter(name): _drive(name, path) for name, path in drives.items()}
    for system_drive in (folder, _within(folder, "drive_c")):
        if system_drive and _within(system_drive, "windows", "system32"):
            from fundamen.machine.windows import WindowsMachine  # noqa: PLC0415 - this host is opened without it

            return WindowsMachine(folder, {"C": HostPath(system_drive), **given}, environment, here)
    if os.path.isfile(os.path.join(folder, _MAC_SIGN)):
        from fundamen.machine.mac import MacMachine  # noqa: PLC0415 - likewise

        return MacMachine(folder, environment, here)
    if any(os.path.lexists(os.path.join(folder, sign)) for sign in _LINUX_SIGNS):
        return LinuxMachine(folder, environment, here)
    raise UnreadableError(
        what=f"The machine {printable(spec)} cannot be examined",
        why=(
            "the folder holds neither Windows/System32, nor drive_c/windows/system32, nor a macOS root"
            " (System/Library/CoreServices), nor a Linux root (usr/lib, etc)"
        ),
        do="Name the folder that the root or the system drive is mounted at.",
    )


def _open_capture(path: HostPath, spec: str, environment: Mapping[str, str]) -> Machine:
    """The machine of a capture. Raises: UnreadableError: it is none."""
    from fundamen.formats.capture_file import is_capture, read_capture  # noqa: PLC0415 - only where one is named
    from fundamen.machine.captured import CapturedMachine  # noqa: PLC0415

    try:
        with open(path, "rb") as file:
            if not is_capture(file.read(4)):
                raise UnreadableError(
                    what=f"The machine {printable(spec)} cannot be examined",
                    why="it is not a folder, and no capture of a machine either",
                    do="Name the folder where its root or system drive is mounted, or a capture.",
                )
            file.seek(0)
            return CapturedMachine(read_capture(file, spec), path, environment)
    except OSError as error:
        raise UnreadableError(
            what=f"The capture {printable(spec)} cannot be read",
            why=error.strerror or str(error),
            do="Name a capture that you may read.",
        ) from error


def _letter(name: str) -> str:
    letter = name.rstrip(":").upper()
    if len(letter) != 1 or not "A" <= letter <= "Z":
        raise UsageError(
            what=f"--drive {printable(name)} is no drive", why="a drive is one letter", do="Write it as D=FOLDER."
        )
    return letter


def _drive(name: str, path: str) -> HostPath:
    if not os.path.isdir(path):
        raise UnreadableError(
            what=f"Drive {printable(name)} cannot be examined",
            why=f"{printable(path)} is not a folder",
            do="Name the folder where the drive is mounted.",
        )
    return HostPath(path)


def _within(folder: str, *names: str) -> str | None:
    """The folder below another by names compared without case; None where there is none."""
    for name in names:
        try:
            actual = next((n for n in sorted(os.listdir(folder)) if n.lower() == name), None)
        except OSError:
            return None
        if actual is None:
            return None
        folder = os.path.join(folder, actual)
    return folder if os.path.isdir(folder) else None
