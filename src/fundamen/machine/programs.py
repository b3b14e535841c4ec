"""Find the program that a person names."""

from collections.abc import Iterator

from fundamen.machine.links import dangling_target
from fundamen.machine.machine import Entry, EntryKind, Machine
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_BYTES = 1 << 20
# Where PATH is not known: what Debian's login(1) and Apple's path_helper(8) set, by the platform.
_USUAL = {
    Platform.LINUX: "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
    Platform.MACOS: "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin",
    Platform.WINDOWS: "C:\\Windows\\System32;C:\\Windows",
}


def find_program(machine: Machine, name: str) -> MachinePath:
    """The path of a program: as named, where the machine's PATH finds a bare name, or an application's own program.

    A link on PATH that leads to nothing counts where nothing else is found. A path at which nothing stands is given
    back as it is; its reader reports it.
    """
    path = machine.absolute_path(name)
    if machine.platform is Platform.MACOS and name.rstrip("/").endswith(".app"):
        return _of_bundle(machine, path)
    if machine.paths.basename(name) != name or machine.look(path).kind is not EntryKind.ABSENT:
        return path
    places = list(places_on_path(machine, name))
    found = next((place for place, entry in places if entry.kind is EntryKind.FILE and entry.is_executable), None)
    return found or next((place for place, _ in places if dangling_target(machine, place) is not None), path)


def path_folders(machine: Machine) -> list[str]:
    """The folders of PATH in their order, as they are written; the usual ones where PATH is not known."""
    given = machine.environment.get("PATH") or _USUAL[machine.platform]
    return given.split(machine.paths.pathsep)


def places_on_path(machine: Machine, name: str) -> Iterator[tuple[MachinePath, Entry]]:
    """Each place where a command is looked up, in order, with what is there.

    Source: POSIX, XBD 8.3 ("PATH"), and XCU 2.9.1, "Command Search and Execution"; Windows adds endings (PATHEXT).
    """
    endings = ("", ".exe") if machine.platform is Platform.WINDOWS else ("",)
    for folder in path_folders(machine):
        for ending in endings if machine.paths.isabs(folder) else ():
            path = machine.join(folder, name + ending)
            yield path, machine.look(path)


def _of_bundle(machine: Machine, folder: MachinePath) -> MachinePath:
    """The program that an application's folder names. Source: Apple's "Bundle Programming Guide", Info.plist."""
    from fundamen.formats.mac.property_list import read_property_list  # noqa: PLC0415 - only for an application of macOS

    contents = machine.join(folder, "Contents")
    try:
        data = machine.content(machine.join(contents, "Info.plist"), _MOST_BYTES)
        values = read_property_list(data, say("machine.list-of-the-application-properties"))
    except UnreadableError:
        return folder
    named = values.get("CFBundleExecutable")
    return machine.join(contents, "MacOS", machine.paths.basename(named)) if isinstance(named, str) else folder
