"""The users and groups that a machine lists by itself. Source: passwd(5), group(5)."""

from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

USERS, GROUPS = MachinePath("/etc/passwd"), MachinePath("/etc/group")
_SOURCES = MachinePath("/etc/nsswitch.conf")
_OWN_SOURCES = {"files", "compat", "db", "systemd", "altfiles"}
_FIELDS = 4  # that a line of either list has at least
_MOST_LIST = 16 << 20  # bytes
_MOST_DIGITS = 10


def accounts(machine: Machine, of: MachinePath) -> dict[str, list[str]]:
    """The lines of a list, in their fields, by name: name, password, number, and what follows; none if unreadable."""
    return machine.fact(of, _read_accounts)


def knows_others(machine: Machine) -> bool:
    """Whether the machine looks users up elsewhere too, as in a directory. Source: nsswitch.conf(5)."""
    try:
        text = machine.content(_SOURCES, _MOST_LIST).decode("utf-8", "surrogateescape")
    except UnreadableError:
        return False
    named = (line.partition(":")[2].split() for line in text.splitlines() if line.startswith("passwd:"))
    return any(not word.startswith("[") and word not in _OWN_SOURCES for words in named for word in words)


def _read_accounts(machine: Machine, of: MachinePath) -> dict[str, list[str]]:
    try:
        lines = machine.content(of, _MOST_LIST).decode("utf-8", "surrogateescape").splitlines()
    except UnreadableError:
        return {}
    found: dict[str, list[str]] = {}
    for fields in (line.split(":") for line in lines if not line.startswith("#")):
        if len(fields) >= _FIELDS:
            found.setdefault(fields[0], fields)  # the first counts: getpwnam(3) reads no further
    return found


def number_of(machine: Machine, name: str, of: MachinePath) -> int | None:
    """The number of a user or group; None where the machine lists none of the name. A name may be ``#`` and a number.

    Args:
        machine: whose account it is.
        name: as a package or dpkg-statoverride(1) writes it.
        of: ``USERS`` or ``GROUPS``.
    """
    number = name[1:] if name.startswith("#") else accounts(machine, of).get(name, ["", "", ""])[2]
    return int(number) if number.isascii() and number.isdigit() and len(number) <= _MOST_DIGITS else None
