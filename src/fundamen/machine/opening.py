"""Open the machine that a technician names."""

import os
import sys
from collections.abc import Mapping

from fundamen.machine.machine import Machine
from fundamen.machine.posix import LinuxMachine
from fundamen.messages import say
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
            what=say("machine.drive-cannot-be-used-here"),
            why=say("machine.has-no-drive-letters", title=machine.title),
            do=say("machine.leave-drive-out-or-name-a"),
        )
    return machine


def _this_host(environment: Mapping[str, str], here: HostPath) -> Machine:
    if _PLATFORM == "win32":
        from fundamen.machine.windows_host import WindowsHost  # noqa: PLC0415 - only on Windows

        return WindowsHost(environment, here)
    if _PLATFORM != "linux":
        raise UnreadableError(
            what=say("machine.this-host-cannot-be-examined-yet"),
            why=say("machine.live-machines-are-examined-on-linux", platform=_PLATFORM),
            do=say("machine.name-a-mounted-root-or-volume"),
        )
    return LinuxMachine(HostPath("/"), environment, here)


def _machine_at(
    folder: HostPath, spec: str, drives: Mapping[str, str], environment: Mapping[str, str], here: HostPath
) -> Machine:
    if os.path.isfile(folder):
        return _open_capture(folder, spec, environment)
    if not os.path.isdir(folder):
        why = say("machine.it-is-not-a-folder") if os.path.exists(folder) else say("machine.there-is-no-such-folder")
        raise UnreadableError(
            what=say("machine.the-machine-cannot-be-examined", spec=printable(spec)),
            why=why,
            do=say("machine.name-the-folder-where-its-root"),
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
        what=say("machine.the-machine-cannot-be-examined", spec=printable(spec)),
        why=(say("machine.the-folder-holds-neither-windows-system32")),
        do=say("machine.name-the-folder-that-the-root"),
    )


def _open_capture(path: HostPath, spec: str, environment: Mapping[str, str]) -> Machine:
    """The machine of a capture. Raises: UnreadableError: it is none."""
    from fundamen.formats.capture_file import is_capture, read_capture  # noqa: PLC0415 - only where one is named
    from fundamen.machine.captured import CapturedMachine  # noqa: PLC0415

    try:
        with open(path, "rb") as file:
            if not is_capture(file.read(4)):
                raise UnreadableError(
                    what=say("machine.the-machine-cannot-be-examined", spec=printable(spec)),
                    why=say("machine.it-is-not-a-folder-and"),
                    do=say("machine.name-the-folder-where-its-root-or"),
                )
            file.seek(0)
            return CapturedMachine(read_capture(file, spec), path, environment)
    except OSError as error:
        raise UnreadableError(
            what=say("machine.the-capture-cannot-be-read", spec=printable(spec)),
            why=error.strerror or str(error),
            do=say("machine.name-a-capture-that-you-may"),
        ) from error


def _letter(name: str) -> str:
    letter = name.rstrip(":").upper()
    if len(letter) != 1 or not "A" <= letter <= "Z":
        raise UsageError(
            what=say("machine.drive-is-no-drive", name=printable(name)),
            why=say("machine.a-drive-is-one-letter"),
            do=say("machine.write-it-as-d-folder"),
        )
    return letter


def _drive(name: str, path: str) -> HostPath:
    if not os.path.isdir(path):
        raise UnreadableError(
            what=say("machine.drive-cannot-be-examined", name=printable(name)),
            why=say("machine.is-not-a-folder", path=printable(path)),
            do=say("machine.name-the-folder-where-the-drive"),
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
