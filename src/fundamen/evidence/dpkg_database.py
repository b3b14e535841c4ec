"""See whether dpkg's database is whole, and which backup of it is. Sources: dpkg(1), "FILES"; deb822(5), "SYNTAX"."""

import re

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

STATUS = MachinePath("/var/lib/dpkg/status")
_INFO = MachinePath("/var/lib/dpkg/info")
_BACKUPS = (MachinePath("/var/lib/dpkg/status-old"), MachinePath("/var/backups/dpkg.status.0"))
_FEWEST_LISTS = 20  # of a machine that has packages at all
_MOST_STATUS = 1 << 28  # bytes
_ODD_LINE = re.compile(rb"^(?![ \t]|[!-9;-~]+:|$).*", re.MULTILINE)  # neither a field, nor more of one, nor blank


class DatabaseDamage(msgspec.Struct, frozen=True):
    """The status file of a machine is damaged."""

    why: Message
    backup: MachinePath | None  # one that is whole; None where none is
    packages: int  # of which the backup tells


def find_database_damage(machine: Machine) -> DatabaseDamage | None:
    """The damage of a machine's status file; None where it is whole, or the machine has no such database."""
    try:
        lists = sum(name.endswith(".list") for name in machine.names(_INFO))
    except UnreadableError:
        return None
    if lists < _FEWEST_LISTS:
        return None
    content = _content(machine, STATUS)
    recorded, odd = _packages_in(content), _ODD_LINE.search(content)
    if odd is not None:
        line = content.count(b"\n", 0, odd.start()) + 1
        why = say("evidence.is-damaged-line-is-none-that", status=STATUS, line=line)
    elif recorded * 2 < lists:
        why = say("evidence.is-damaged-it-tells-of-packages", status=STATUS, count=recorded, lists=lists)
    else:
        return None
    for path in _BACKUPS:
        backup = _content(machine, path)
        if (count := _packages_in(backup)) * 2 >= lists and _ODD_LINE.search(backup) is None:
            return DatabaseDamage(why, path, count)
    return DatabaseDamage(why, None, 0)


def _content(machine: Machine, path: MachinePath) -> bytes:
    try:
        return machine.content(path, _MOST_STATUS) if machine.look(path).kind is EntryKind.FILE else b""
    except UnreadableError:
        return b""


def _packages_in(content: bytes) -> int:
    return content.startswith(b"Package: ") + content.count(b"\nPackage: ")
