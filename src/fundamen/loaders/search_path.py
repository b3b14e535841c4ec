"""How a command's name is looked up on PATH.

Source: POSIX, XBD 8.3 ("PATH"), and XCU 2.9.1, "Command Search and Execution"; Windows adds endings (PATHEXT).
"""

from collections.abc import Iterator

from fundamen.loaders.load_map import Candidate, Outcome
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath

# Where PATH is not known: what Debian's login(1) and Apple's path_helper(8) set, by the platform.
_USUAL = {
    Platform.LINUX: "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
    Platform.MACOS: "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin",
    Platform.WINDOWS: "C:\\Windows\\System32;C:\\Windows",
}


def path_folders(machine: Machine) -> list[str]:
    """The folders of PATH in their order, as they are written; the usual ones where PATH is not known."""
    given = machine.environment.get("PATH") or _USUAL[machine.platform]
    return given.split(machine.paths.pathsep)


def find_on_path(machine: Machine, name: str) -> Iterator[Candidate]:
    """What stands at each place where a command is looked up: the first that is taken is the one that is run."""
    endings = ("", ".exe") if machine.platform is Platform.WINDOWS else ("",)
    for folder in path_folders(machine):
        for ending in endings if machine.paths.isabs(folder) else ():
            yield _judged(machine, machine.join(folder, name + ending))


def _judged(machine: Machine, path: MachinePath) -> Candidate:
    entry = machine.look(path)
    if entry.kind is EntryKind.BLOCKED:
        return Candidate(path, Outcome.BLOCKED, "PATH", entry.why)
    if entry.kind is not EntryKind.FILE:
        return Candidate(path, Outcome.ABSENT, "PATH")
    if not entry.is_executable:
        return Candidate(path, Outcome.BLOCKED, "PATH", "its mode lets nobody run it")
    return Candidate(path, Outcome.TAKEN, "PATH")
