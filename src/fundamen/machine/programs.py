"""Find the program that a person names."""

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_BYTES = 1 << 20


def find_program(machine: Machine, name: str) -> MachinePath:
    """The path of a program: as named, where this host's PATH finds a bare name, or an application's own program.

    A path at which nothing stands is given back as it is; whoever reads it says so.
    """
    path = machine.spelled(name)
    if machine.platform is Platform.MACOS and name.rstrip("/").endswith(".app"):
        return _of_bundle(machine, path)
    if not machine.is_live or machine.paths.basename(name) != name or machine.look(path).kind is not EntryKind.ABSENT:
        return path
    endings = ("", ".exe") if machine.platform is Platform.WINDOWS else ("",)
    for folder in machine.environment.get("PATH", "").split(machine.paths.pathsep):
        for ending in endings if machine.paths.isabs(folder) else ():
            found = machine.join(folder, name + ending)
            if machine.look(found).kind is EntryKind.FILE:
                return found
    return path


def _of_bundle(machine: Machine, folder: MachinePath) -> MachinePath:
    """The program that an application's folder names. Source: Apple's "Bundle Programming Guide", Info.plist."""
    from fundamen.formats.property_list import read_property_list  # noqa: PLC0415 - only for an application of macOS

    contents = machine.join(folder, "Contents")
    try:
        data = machine.content(machine.join(contents, "Info.plist"), _MOST_BYTES)
        values = read_property_list(data, "list of the application's properties")
    except UnreadableError:
        return folder
    named = values.get("CFBundleExecutable")
    return machine.join(contents, "MacOS", machine.paths.basename(named)) if isinstance(named, str) else folder
