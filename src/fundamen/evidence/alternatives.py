"""Read the alternatives of a machine: links by which one of several programs serves under a common name.

Source: update-alternatives(1), "FILES" and "QUERY FORMAT"; dpkg's own file of each name.
"""

from itertools import takewhile

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_RECORDS = MachinePath("/var/lib/dpkg/alternatives")
_LINKS = MachinePath("/etc/alternatives")
_MOST = 1 << 16  # bytes of one file


class Alternative(msgspec.Struct, frozen=True):
    """One common name."""

    name: str
    link: MachinePath  # the common name's own place, which leads to ``through``
    through: MachinePath  # below /etc/alternatives, which leads to the program
    choices: tuple[MachinePath, ...]  # the programs that are there, the one of the highest priority first


def alternative_names(machine: Machine) -> tuple[MachinePath, ...]:
    """The links below /etc/alternatives that the machine's records name, be they there or not."""
    try:
        return tuple(machine.join(_LINKS, name) for name in machine.names(_RECORDS))
    except UnreadableError:
        return ()


def find_alternative(machine: Machine, path: MachinePath) -> Alternative | None:
    """The alternative whose common name, or whose link below /etc/alternatives, a path is; None where it is none."""
    name = machine.paths.basename(path)
    record = machine.join(_RECORDS, name)
    if name in {"", ".", ".."} or machine.look(record).kind is not EntryKind.FILE:
        return None
    try:
        lines = machine.content(record, _MOST).decode("utf-8", "surrogateescape").splitlines()
    except UnreadableError:
        return None
    if len(lines) < 2 or not lines[1].startswith("/"):  # noqa: PLR2004 - a status, and the common name
        return None
    link, through = MachinePath(lines[1]), machine.join(_LINKS, name)
    if machine.own_place(path) not in {machine.own_place(link), machine.own_place(through)}:
        return None
    followers = list(takewhile(bool, lines[2:]))  # a name and a link each
    choices: list[tuple[int, MachinePath]] = []
    at, size = 3 + len(followers), 2 + len(followers) // 2
    while at + 1 < len(lines) and lines[at].startswith("/"):
        choice, priority = MachinePath(lines[at]), lines[at + 1].strip()
        if machine.look(choice).kind is EntryKind.FILE and priority.lstrip("-").isascii():
            choices.append((int(priority) if priority.lstrip("-").isdigit() and len(priority) < 10 else 0, choice))  # noqa: PLR2004 - more is no priority
        at += size
    choices.sort(key=lambda each: -each[0])
    return Alternative(name, link, through, tuple(choice for _, choice in choices))
