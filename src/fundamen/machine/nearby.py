"""Walk the folders near a program or a build, and those where software is put that no package manager has brought."""

from collections import deque
from collections.abc import Iterator

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_BY_HAND = {
    Platform.LINUX: ("/usr/local", "/opt", "/srv"),
    Platform.MACOS: ("/usr/local", "/opt"),
    Platform.WINDOWS: ("C:\\Program Files", "C:\\Program Files (x86)"),
}
_OF_A_SYSTEM = {"etc", "usr", "var"}  # folders that the root of any Unix system has
_DEEPEST = 5
_MOST_FOLDERS = 4000


def folders_near(machine: Machine, folder: MachinePath) -> Iterator[tuple[MachinePath, tuple[str, ...]]]:
    """Each folder with the names in it: the given one, the one above it, the usual ones, nearest first, each once.

    Links are not followed, for they may lead anywhere; depth and number are bounded. The root of another system, such
    as a container's, is left out: its files are for its own programs.
    """
    above = machine.folder_of(folder)
    is_top = machine.folder_of(above) == above
    roots = [folder, *([] if is_top else [above]), *map(MachinePath, _BY_HAND[machine.platform])]
    seen: set[MachinePath] = set()
    for root in roots:
        waiting = deque([(root, 0)])
        while waiting and len(seen) < _MOST_FOLDERS:
            each, depth = waiting.popleft()
            if (real := machine.real(each)) in seen:
                continue
            seen.add(real)
            try:
                names = machine.names(real)
            except UnreadableError:
                continue
            if depth and set(names) >= _OF_A_SYSTEM:
                continue
            yield real, names
            if depth < _DEEPEST:
                waiting.extend((path, depth + 1) for path in _inside(machine, real, names))


def _inside(machine: Machine, folder: MachinePath, names: tuple[str, ...]) -> Iterator[MachinePath]:
    """The folders inside one; what has an ending is taken for a file, and what is hidden for no software."""
    for name in names:
        if "." not in name.strip(".") and not name.startswith("."):
            path = machine.join(folder, name)
            if machine.look(path).kind is EntryKind.FOLDER and machine.real(path) == path:
                yield path
