"""All that lies below a folder of a machine, in the order in which an archive has it."""

import stat
from collections.abc import Iterator

from fundamen.cold_copies.manifest import CopiedEntry, CopiedKind, SkippedEntry
from fundamen.machine.places import Place
from fundamen.messages import say
from fundamen.placing.file_state import state_of
from fundamen.placing.replacing import OURS


def entries_below(top: Place, left_out: list[SkippedEntry]) -> Iterator[CopiedEntry]:
    """All entries, each folder before what lies in it. Raises: OSError."""
    device = top.status().st_dev
    names: dict[tuple[int, int], str] = {}  # of files with several: the first
    waiting = [""]
    while waiting:
        path = waiting.pop()
        place = top.below(path)
        status = place.status()
        name = path.encode("utf-8", "backslashreplace").decode()
        if name != path or not is_text(place.link() if stat.S_ISLNK(status.st_mode) else ""):
            left_out.append(SkippedEntry(name, say("cold_copies.its-name-or-what-it-leads")))
        elif stat.S_ISDIR(status.st_mode):
            if status.st_dev != device:
                left_out.append(SkippedEntry(name, say("cold_copies.another-file-system-is-mounted-there")))
                continue
            yield CopiedEntry(path, CopiedKind.FOLDER, state_of(place, status, ""))
            inner = sorted((each for each in place.names() if not each.startswith(OURS)), reverse=True)
            waiting += [f"{path}/{each}" if path else each for each in inner]
        elif stat.S_ISLNK(status.st_mode):
            yield CopiedEntry(path, CopiedKind.LINK, state_of(place, status, ""))
        elif stat.S_ISREG(status.st_mode):
            first = names.setdefault((status.st_dev, status.st_ino), path) if status.st_nlink > 1 else path
            yield CopiedEntry(
                path, CopiedKind.FILE, state_of(place, status, ""), same_as="" if first == path else first
            )
        else:
            left_out.append(SkippedEntry(name, say("cold_copies.a-device-a-pipe-or-a")))


def is_text(path: str) -> bool:
    """Whether a path of the host is text, and not only bytes."""
    return path.encode("utf-8", "ignore").decode() == path
