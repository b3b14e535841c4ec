"""Choose the loader that a program meets on a machine, and ask it."""

import logging
from collections.abc import Sequence
from typing import TYPE_CHECKING

from fundamen.loaders.load_map import LoadMap
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Binary, BinaryKind, Format
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.timing import log_time

_LOG = logging.getLogger(__name__)

if TYPE_CHECKING:
    from fundamen.formats.unix.elf import Elf

_PLATFORMS = {
    Format.ELF: Platform.LINUX,
    Format.SCRIPT: Platform.LINUX,
    Format.PE: Platform.WINDOWS,
    Format.MACHO: Platform.MACOS,
}
# What another program performs, and where: the first line of a script means nothing to Windows.
LAUNCHERS = (".service", ".timer", ".socket", ".path", ".desktop")  # endings of what starts programs
_HOSTED = {Format.SCRIPT: {Platform.LINUX, Platform.MACOS}, Format.JAVA: set(Platform)}


def load_map(machine: Machine, program: MachinePath, also: Sequence[str] = ()) -> LoadMap:
    """Find all that a program or library needs, as the machine's own loader would.

    Args:
        machine: whose loader it is.
        program: the program or library.
        also: names or paths that the program was seen to ask for as it ran, which it does not declare.

    Raises:
        UnreadableError: it cannot be read, is no program, or is one for another operating system.
    """
    with log_time(_LOG, "loading %s as %s would", program, machine.title):
        found = _map_of_launcher(machine, program) or _load_map(machine, program, also)
    if _LOG.isEnabledFor(logging.DEBUG):
        for each in found.resolutions:
            tried = ", ".join(f"{place.path} ({place.outcome}: {place.because})" for place in each.candidates)
            _LOG.debug("%s needs %s: %s; tried: %s", each.needed_by, each.name, each.path or "not found", tried or "-")
    return found


def _load_map(machine: Machine, program: MachinePath, also: Sequence[str]) -> LoadMap:
    binary = machine.binary(program)
    if machine.platform in _HOSTED.get(binary.format, ()):
        return _map_of_hosted(machine, program, binary)
    if binary.kind is BinaryKind.PACKAGE:
        raise UnreadableError(
            what=say("loaders.cannot-be-traced", program=printable(program)),
            why=say("loaders.it-is-an-install-package-nothing"),
            do=say("loaders.see-from-whom-it-is-with", program=printable(program)),
        )
    made_for = _PLATFORMS[binary.format]
    if made_for is not machine.platform:
        raise UnreadableError(
            what=say("loaders.cannot-be-traced-on", program=printable(program), title=machine.title),
            why=say(
                "loaders.it-is-made-for-and-the", words=made_for.in_words, other_in_words=machine.platform.in_words
            ),
            do=say("loaders.name-the-machine-it-belongs-to", words=made_for.in_words),
        )
    if made_for is Platform.WINDOWS:
        from fundamen.formats.windows.pe import Pe  # noqa: PLC0415 - only the loader that is met is imported
        from fundamen.loaders import windows  # noqa: PLC0415

        assert isinstance(binary, Pe)  # noqa: S101 - its format says so
        return windows.load_map(machine, program, binary, also)
    if made_for is Platform.MACOS:
        from fundamen.formats.mac.macho import MachO  # noqa: PLC0415
        from fundamen.loaders import dyld  # noqa: PLC0415

        assert isinstance(binary, MachO)  # noqa: S101 - its format says so
        return dyld.load_map(machine, program, binary, also)
    from fundamen.formats.unix.elf import Elf  # noqa: PLC0415

    assert isinstance(binary, Elf)  # noqa: S101 - its format says so
    if _is_musl(binary):
        from fundamen.loaders import musl  # noqa: PLC0415

        return musl.load_map(machine, program, binary, also)
    from fundamen.loaders import glibc  # noqa: PLC0415

    loading = glibc.load_map(machine, program, binary, also)
    if ".cpython-" in program:
        from fundamen.loaders.python_modules import with_interpreter  # noqa: PLC0415 - only for what may be one

        return with_interpreter(machine, loading)
    return loading


def _map_of_launcher(machine: Machine, program: MachinePath) -> LoadMap | None:
    """The needs of what a unit, desktop entry or list of jobs starts; None for any other file."""
    if not program.endswith(LAUNCHERS) and "/cron" not in program:
        return None
    from fundamen.loaders import launchers  # noqa: PLC0415 - few are traced

    if not launchers.is_launcher(machine, program) or launchers.is_program(machine, program):
        return None
    return launchers.load_map(machine, program, load_map)


def _map_of_hosted(machine: Machine, program: MachinePath, binary: Binary) -> LoadMap:
    """The needs of a program that another program runs: a script, or Java classes."""
    if binary.format is Format.SCRIPT:
        from fundamen.formats.unix.script import Script  # noqa: PLC0415
        from fundamen.loaders import scripts  # noqa: PLC0415

        assert isinstance(binary, Script)  # noqa: S101 - its format says so
        return scripts.load_map(machine, program, binary, load_map)
    from fundamen.formats.managed.java import JavaClasses  # noqa: PLC0415
    from fundamen.loaders import java  # noqa: PLC0415

    assert isinstance(binary, JavaClasses)  # noqa: S101 - its format says so
    return java.load_map(machine, program, binary, load_map)


def system_folder(machine: Machine, architecture: Architecture) -> MachinePath:
    """The folder where the machine's loader looks for system libraries of an architecture."""
    if machine.platform is Platform.WINDOWS:
        from fundamen.loaders import windows_processes  # noqa: PLC0415

        return windows_processes.system_folder(machine, architecture)
    if machine.platform is Platform.MACOS:
        return MachinePath("/usr/local/lib")  # /usr/lib is the system's own, and sealed
    from fundamen.loaders.glibc_itself import system_folders  # noqa: PLC0415

    return MachinePath(system_folders(machine, None, architecture)[0])


def _is_musl(elf: "Elf") -> bool:
    """Whether a program is started by musl's loader, or a library was linked with musl's C library."""
    if elf.interpreter is not None:
        return "/ld-musl-" in elf.interpreter
    return any(need.name == "libc.so" or need.name.startswith("libc.musl-") for need in elf.needs)
