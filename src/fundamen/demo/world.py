"""Build the demo's world in a folder: two machines, a publisher's media, and later IT's signed source.

The binaries are small but real; docs/demo.md tells what they are made from.
"""

import os
import platform
import shutil
import sys
from pathlib import Path

from fundamen.model.display import printable
from fundamen.model.errors import UsageError

BINARIES = Path(__file__).parent / "binaries"

DESK_PROGRAM = "desk/opt/tidebook/bin/tidebook"
DESK_LIBRARIES = "desk/opt/tidebook/lib"
QUAY_PROGRAM = "C:\\Program Files\\Tidebook\\tidebook.exe"
QUAY_NARROW_PROGRAM = "C:\\Program Files (x86)\\Tidebook\\tidebook.exe"
QUAY_SYSTEM = {"windows-x86_64": "quay/Windows/System32", "windows-x86": "quay/Windows/SysWOW64"}
_QUAY_PROGRAMS = {"windows-x86_64": "quay/Program Files/Tidebook", "windows-x86": "quay/Program Files (x86)/Tidebook"}
_INTERPRETERS = {"x86_64": "/lib64/ld-linux-x86-64.so.2", "aarch64": "/lib/ld-linux-aarch64.so.1"}


def desk_target() -> str | None:
    """Which build of Tidebook runs on this host; None where none does."""
    machine = {"amd64": "x86_64", "arm64": "aarch64"}.get(platform.machine().lower(), platform.machine().lower())
    runs = sys.platform == "linux" and os.path.exists(_INTERPRETERS.get(machine, ""))
    return f"linux-{machine}" if runs else None


def package_targets() -> list[str]:
    """The platforms and widths that IT publishes the runtime for."""
    desk = desk_target()
    return [*([desk, "linux-x86"] if desk else []), *QUAY_SYSTEM]


def build_world(folder: Path) -> None:
    """Lay out both machines, sound, and the publisher's media.

    Raises:
        UsageError: the folder is in use for something else.
    """
    if folder.exists() and any(folder.iterdir()):
        raise UsageError(
            what=f"The demo cannot be laid out in {printable(str(folder))}",
            why="the folder is not empty",
            do="Name a new folder: fundamen demo --keep NEW-FOLDER",
        )
    for target in package_targets():
        _copy(_runtime_files(target), folder / "media" / "saltgrass-4.2.1" / target)
    if desk := desk_target():
        _copy([BINARIES / desk / "tidebook"], (folder / DESK_PROGRAM).parent)
        (folder / DESK_PROGRAM).chmod(0o755)
        _copy(_runtime_files(desk), folder / DESK_LIBRARIES)
    for target, system in QUAY_SYSTEM.items():
        _copy([*_runtime_files(target), BINARIES / target / "kernel32.dll"], folder / system)
        _copy([BINARIES / target / "tidebook.exe"], folder / _QUAY_PROGRAMS[target])


def break_desk(folder: Path) -> None:
    """Do to the desk what went wrong there: one library lost, one for the other word size, one truncated."""
    libraries = folder / DESK_LIBRARIES
    _break(libraries, "libsaltgrass-{}.so.4", BINARIES / "linux-x86" / "libsaltgrass-chart.so.4")


def break_quay(folder: Path) -> None:
    """Do to the quay's volume the same, in the system folder of its 64-bit programs."""
    libraries = folder / QUAY_SYSTEM["windows-x86_64"]
    _break(libraries, "saltgrass-{}.dll", BINARIES / "windows-x86" / "saltgrass-chart.dll")


def _break(libraries: Path, name: str, of_other_width: Path) -> None:
    (libraries / name.format("tide")).unlink()
    shutil.copyfile(of_other_width, libraries / name.format("chart"))
    damaged = libraries / name.format("core")
    damaged.write_bytes(damaged.read_bytes()[: damaged.stat().st_size // 2])


def _runtime_files(target: str) -> list[Path]:
    return sorted(path for path in (BINARIES / target).iterdir() if "saltgrass" in path.name)


def _copy(files: list[Path], folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for file in files:
        shutil.copyfile(file, folder / file.name)
